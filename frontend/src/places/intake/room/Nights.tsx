import { useState } from "react";

import type { Schemas } from "../../../api/client";
import { Button, ColumnHead, Segments } from "../../../parts/basics";
import { several } from "../../../parts/several";

type Row = Schemas["RawNightOut"];
const KEPT: Row["wished"] = "kept as they are";

/** What is said of a row beside its size: what the house rule wishes, or why it is not thrown away. */
function said(row: Row): string {
  if (row.wished !== KEPT) return `by the house rule: to be ${row.wished}`;
  if (row.kept_for) return row.kept_for;
  return row.n_packed === row.n_frames ? "packed; a master stands for them" : "a master stands for them";
}

function One({ row, chosen, onChoose }: { row: Row; chosen: boolean; onChoose: () => void }) {
  const packed = row.n_packed > 0 ? `, ${row.n_packed.toLocaleString("en")} packed` : "";
  return (
    <li className="border-b border-line">
      <label className="flex items-baseline gap-3 py-1 max-md:min-h-11 max-md:flex-wrap max-md:items-center">
        <input type="checkbox" className="accent-[var(--ink)]" checked={chosen} onChange={onChoose} />
        <span className="num w-20 shrink-0 text-s">{row.night}</span>
        <span className="w-24 shrink-0 font-semibold">{row.title}</span>
        <span className="num w-20 shrink-0 text-right">{row.size_text}</span>
        <span className="num w-40 shrink-0 text-s text-ink2">
          {several(row.n_frames, "frame")}
          {packed}
        </span>
        <span className="min-w-0 flex-1 text-s text-ink2">{said(row)}</span>
      </label>
    </li>
  );
}

/** Raw frames by kind and night, to choose from. */
export function Nights({
  rows,
  more,
  chosen,
  onChoose,
}: {
  rows: Row[];
  more: number;
  chosen: ReadonlySet<string>;
  onChoose: (keys: Set<string>) => void;
}) {
  const [kind, setKind] = useState("all");
  const kinds = [...new Map(rows.map((r) => [r.kind, r.title])).entries()];
  const shown = rows.filter((r) => kind === "all" || r.kind === kind);
  const wished = rows.filter((r) => r.wished !== KEPT);
  const toggle = (key: string) => {
    const next = new Set(chosen);
    if (!next.delete(key)) next.add(key);
    onChoose(next);
  };
  return (
    <section aria-label="Raw frames" className="min-w-0">
      <ColumnHead note="the largest first">Raw frames by night</ColumnHead>
      <div className="flex flex-wrap items-center gap-x-4 gap-y-2 py-2">
        <Segments
          label="Which kind"
          value={kind}
          options={[{ value: "all", label: "all" }, ...kinds.map(([value, label]) => ({ value, label }))]}
          onChange={setKind}
        />
        <Button look="link" onClick={() => onChoose(new Set(shown.map((r) => r.key)))}>
          choose all shown
        </Button>
        {wished.length > 0 && (
          <Button look="link" onClick={() => onChoose(new Set(wished.map((r) => r.key)))}>
            choose what the house rules wish ({wished.length})
          </Button>
        )}
        {chosen.size > 0 && (
          <Button look="link" onClick={() => onChoose(new Set())}>
            choose none
          </Button>
        )}
      </div>
      <ul
        className={`overflow-auto border-t border-line ${chosen.size > 0 ? "max-h-[300px]" : "max-h-[560px]"}`}
      >
        {shown.map((row) => (
          <One key={row.key} row={row} chosen={chosen.has(row.key)} onChoose={() => toggle(row.key)} />
        ))}
        {more > 0 && <li className="py-1 text-s text-ink2">and {more} smaller ones</li>}
      </ul>
    </section>
  );
}
