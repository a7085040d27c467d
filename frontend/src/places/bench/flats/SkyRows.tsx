import { useState } from "react";

import { type Schemas } from "../../../api/client";
import { type TwilightChoice } from "../../../api/hooks";
import { ColumnHead } from "../../../parts/basics";
import { FilterStamp } from "../../../parts/FilterStamp";
import { filterName } from "../../../parts/filterName";
import { keyText } from "./keys";

export type Data = Schemas["TwilightOut"];

type Row = Schemas["TwilightRow"];

type Pick = Schemas["SkyRowOut"];

/** So many rows that are not picked stand open. */
const FEW = 7;

const LINE = "grid grid-cols-[20px_44px_72px_76px_1fr] items-center gap-2 border-b border-line py-1";

/** A row of the sheet to be picked: its tick, its number of flats, and when they would be shot. */
function PickLine({
  row,
  plan,
  count,
  most,
  onCount,
}: {
  row: Pick;
  /** What becomes of it; null while it is not known, or where it is not picked. */
  plan: Row | null;
  /** Flats that were picked; undefined where it is not picked. */
  count: number | undefined;
  most: number;
  onCount: (row: Pick, count: number | null) => void;
}) {
  const short = plan !== null && plan.planned < plan.count && plan.trouble === "";
  return (
    <li className={LINE}>
      <input
        type="checkbox"
        className="accent-[var(--ink)]"
        checked={count !== undefined}
        aria-label={`${filterName(row.key.filter_code)}, ${row.gain_text}`}
        onChange={(e) => onCount(row, e.target.checked ? Math.max(row.count, 1) : null)}
      />
      <FilterStamp code={row.key.filter_code} nm={row.passband_nm} />
      <span className="text-s leading-4 text-ink2">{row.gain_text}</span>
      <input
        type="number"
        min={1}
        max={most}
        aria-label={`Flats in ${filterName(row.key.filter_code)}`}
        className="num h-7 w-16 rounded-sm border border-rule bg-card px-1.5 text-right disabled:opacity-50"
        value={count ?? row.count}
        disabled={count === undefined}
        onChange={(e) => onCount(row, Math.min(Math.max(Math.round(Number(e.target.value)) || 0, 0), most))}
      />
      {plan && (
        <span className="text-s leading-4">
          <span className={short || plan.trouble ? "font-semibold text-accent" : ""}>
            {short && plan.begins !== null && `${plan.planned} of ${plan.count} fit, `}
            {plan.plan_text}
          </span>
          {plan.opens !== null && <span className="block text-ink2">{plan.window_text}</span>}
        </span>
      )}
    </li>
  );
}

/** A row that is being shot, or was. */
function RunLine({ row }: { row: Row }) {
  return (
    <li className={LINE}>
      <span aria-hidden className="num text-center">
        {row.state === "done" ? "✓" : row.state === "now" ? "›" : ""}
      </span>
      <FilterStamp code={row.key.filter_code} nm={row.passband_nm} />
      <span className="text-s leading-4 text-ink2">{row.gain_text}</span>
      <span className="num text-right whitespace-nowrap">
        {row.done} of {row.count}
      </span>
      <span
        className={`text-s leading-4 ${row.state === "short" ? "font-semibold text-accent" : "text-ink2"}`}
      >
        {row.plan_text}
        {row.set_aside > 0 && `, ${row.set_aside} set aside`}
      </span>
    </li>
  );
}

/** What is picked of the sheet for a twilight, and what is shot of it. */
export function usePicking(
  data: Data | undefined,
  choice: TwilightChoice,
  setChoice: (choice: TwilightChoice) => void,
) {
  const [each, setEach] = useState("");
  const wanted = choice.rows ?? (data?.rows ?? []).map((r) => ({ key: r.key, count: r.count }));
  const pick = (rows: typeof wanted) => setChoice({ ...choice, at: data?.at, rows });
  return {
    wanted,
    countOf: new Map(wanted.map((w) => [keyText(w.key), w.count])),
    total: wanted.reduce((sum, w) => sum + w.count, 0),
    each,
    /** So many flats of every filter that is picked. */
    setEach: (typed: string) => {
      const value = Math.round(Number(typed));
      setEach(typed);
      if (data && value >= 1 && value <= data.most) pick(wanted.map((w) => ({ key: w.key, count: value })));
    },
    count: (row: Pick, value: number | null) => {
      const others = wanted.filter((w) => keyText(w.key) !== keyText(row.key));
      setEach("");
      pick(value === null ? others : [...others, { key: row.key, count: value }]);
    },
  };
}

export type Picking = ReturnType<typeof usePicking>;

/** How many flats of each filter. */
function Each({ data, picking }: { data: Data; picking: Picking }) {
  const same = new Set(picking.countOf.values()).size === 1;
  return (
    <label className="flex items-center gap-1.5">
      each
      <input
        type="number"
        min={1}
        max={data.most}
        aria-label="Flats of each filter"
        placeholder={same ? String(picking.wanted[0]?.count ?? "") : "…"}
        className="num h-6 w-14 rounded-sm border border-rule bg-card px-1.5 text-right text-ink"
        value={picking.each}
        onChange={(e) => picking.setEach(e.target.value)}
      />
    </label>
  );
}

/** The rows of the sheet to be picked, or those of the run. */
export function SkyRows({ data, late, picking }: { data: Data; late: boolean; picking: Picking }) {
  const run = data.shows === "run";
  const fewOthers = data.others.length <= FEW;
  const line = (row: Pick, plan: Row | null) => (
    <PickLine
      key={keyText(row.key)}
      row={row}
      plan={plan}
      count={picking.countOf.get(keyText(row.key))}
      most={data.most}
      onCount={picking.count}
    />
  );
  return (
    <section>
      <ColumnHead note={run ? undefined : <Each data={data} picking={picking} />}>
        {data.at === "dawn" ? "In the order of the dawn" : "In the order of the dusk"}
      </ColumnHead>
      <ul>
        {run && data.rows.map((row) => <RunLine key={keyText(row.key)} row={row} />)}
        {!run && data.rows.map((row) => line(row, late ? null : row))}
        {!run && fewOthers && data.others.map((row) => line(row, null))}
      </ul>
      {!run && !fewOthers && (
        <details>
          <summary className="cursor-pointer py-2 text-ink2">
            {data.others.length} more rows of the sheet
          </summary>
          <ul>{data.others.map((row) => line(row, null))}</ul>
        </details>
      )}
    </section>
  );
}
