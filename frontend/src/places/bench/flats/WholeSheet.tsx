import { useState } from "react";

import { api, get, type Schemas } from "../../../api/client";
import { useChange } from "../../../api/hooks";
import { Button, Trouble } from "../../../parts/basics";
import { FilterStamp } from "../../../parts/FilterStamp";
import { Ruler } from "../../../parts/Ruler";
import { Editor } from "./Editor";
import { asItIs, keyText, type Key, type Row, type Wishes } from "./keys";
import { filterName } from "../../../parts/filterName";

type Sheet = Schemas["FlatSheetOut"];

/** A row that no light asks for yet. */
function AddRow({ data, rig }: { data: Sheet; rig: number }) {
  const [code, setCode] = useState(data.filters[0] ?? "");
  const [gain, setGain] = useState(String(data.usual_gains[data.filters[0] ?? ""] ?? data.gains[0] ?? 100));
  const [offset, setOffset] = useState(String(data.offsets[0] ?? 30));
  const [binning, setBinning] = useState("2");
  const add = useChange((key: Key) =>
    get(api.POST("/api/rigs/{rig_id}/flats/add", { params: { path: { rig_id: rig } }, body: key })),
  );
  const box = "num h-8 w-16 rounded-sm border border-rule bg-card px-2 text-right";
  return (
    <form
      className="flex flex-wrap items-center gap-2"
      onSubmit={(event) => {
        event.preventDefault();
        add.mutate({
          filter_code: code,
          gain: Number(gain),
          offset: Number(offset),
          binning: Number(binning),
        });
      }}
    >
      <span className="text-ink2">Another row:</span>
      <select
        aria-label="Filter"
        className="h-8 rounded-sm border border-rule bg-card px-2"
        value={code}
        onChange={(e) => {
          setCode(e.target.value);
          const usual = data.usual_gains[e.target.value];
          if (usual !== undefined) setGain(String(usual));
        }}
      >
        {data.filters.map((name) => (
          <option key={name}>{name}</option>
        ))}
      </select>
      <label className="flex items-center gap-1.5">
        gain
        <input className={box} inputMode="decimal" value={gain} onChange={(e) => setGain(e.target.value)} />
      </label>
      <label className="flex items-center gap-1.5">
        offset
        <input
          className={box}
          inputMode="decimal"
          value={offset}
          onChange={(e) => setOffset(e.target.value)}
        />
      </label>
      <label className="flex items-center gap-1.5">
        binning
        <select
          className="num h-8 rounded-sm border border-rule bg-card px-1"
          value={binning}
          onChange={(e) => setBinning(e.target.value)}
        >
          {["1", "2", "3", "4"].map((n) => (
            <option key={n}>{n}</option>
          ))}
        </select>
      </label>
      <Button type="submit" disabled={add.isPending}>
        Put it on the sheet
      </Button>
      {add.error && <Trouble error={add.error} />}
    </form>
  );
}

/** What was changed last, and what takes it back. */
interface Kept {
  said: string;
  before: { key: Key; wishes: Wishes }[];
}

const HEADS: [string, "left" | "right"][] = [
  ["Filter", "left"],
  ["Gain", "right"],
  ["Offset", "right"],
  ["Bin", "right"],
  ["Target", "right"],
  ["Tolerance", "right"],
  ["Window", "left"],
  ["Find", "left"],
  ["Light", "left"],
  ["Frames", "right"],
  ["Panel", "right"],
  ["Exposure", "right"],
  ["Level", "left"],
  ["Age", "left"],
];

const CELL = "px-1.5 py-1.5 align-top";

/** What a row wishes; what is its own and not the rig's is underlined. */
function WishedCells({ row, above }: { row: Row; above: Row | undefined }) {
  // What is the same as in the row above need not be read again.
  const news = (name: "target_more" | "tolerance_more" | "reasons") =>
    above?.[name] === row[name] ? "" : row[name];
  const own = (names: string[]) =>
    names.some((n) => row.own.includes(n)) ? "font-semibold underline decoration-dotted" : "";
  return (
    <>
      <td className={`${CELL} num text-right whitespace-nowrap`}>
        <span className={own(["level_percent", "level_adu", "level_electrons"])}>{row.target}</span>
        <span className="ml-auto block max-w-[150px] font-sans text-s whitespace-normal text-ink2">
          {news("target_more")}
        </span>
      </td>
      <td className={`${CELL} num text-right whitespace-nowrap`}>
        <span className={own(["tolerance_percent", "tolerance_adu"])}>{row.tolerance}</span>
        <span className="block font-sans text-s text-ink2">{news("tolerance_more")}</span>
      </td>
      <td className={CELL}>
        <span
          className={`num whitespace-nowrap ${own(["shortest_s", "longest_s", "shortest_reason", "longest_reason"])}`}
        >
          {row.window}
        </span>
        <span className="block max-w-[180px] text-s text-ink2">{news("reasons")}</span>
      </td>
      <td className={`${CELL} max-w-[110px]`}>
        <span className={own(["mode", "brightness", "exposure_s"])}>{row.mode_text}</span>
      </td>
      <td className={`${CELL} max-w-[120px]`}>
        <span className={own(["source"])}>{row.source}</span>
        {row.diffusers && (
          <span className={`block text-s text-ink2 ${own(["diffusers"])}`}>behind {row.diffusers}</span>
        )}
      </td>
      <td className={`${CELL} num text-right whitespace-nowrap`}>
        <span className={own(["n_flats", "n_dark_flats"])}>{row.counts}</span>
      </td>
    </>
  );
}

/** What was found for a row, and whether it still holds. */
function FoundCells({ row }: { row: Row }) {
  return (
    <>
      <td className={`${CELL} num text-right`}>{row.brightness}</td>
      <td className={`${CELL} num text-right font-medium whitespace-nowrap`}>{row.exposure}</td>
      <td className={`${CELL} whitespace-nowrap`}>
        {row.ruler ? <Ruler ruler={row.ruler} width={56} /> : null}
        {row.expected !== "–" && <span className="num block text-s text-ink2">{row.expected}</span>}
        {row.state === "no answer" && <span className="text-s text-accent">{row.no_answer?.direction}</span>}
        {row.state === "never" && <span className="text-s text-ink2">never looked for</span>}
      </td>
      <td className={`${CELL} max-w-[130px] text-s`}>
        {row.age}
        {(row.stale || row.drift) && (
          <span className="block text-accent">{[row.stale, row.drift].filter(Boolean).join("; ")}</span>
        )}
      </td>
    </>
  );
}

function SheetRow({
  row,
  above,
  chosen,
  onToggle,
  onLook,
}: {
  row: Row;
  above: Row | undefined;
  chosen: boolean;
  onToggle: () => void;
  onLook: (key: Key) => void;
}) {
  return (
    <tr className="border-b border-line">
      <td className={CELL}>
        <input
          type="checkbox"
          aria-label={`Choose ${row.name}`}
          className="accent-[var(--ink)]"
          checked={chosen}
          onChange={onToggle}
        />
      </td>
      <td className={CELL}>
        <button type="button" onClick={() => onLook(row.key)} aria-label={`Look at ${row.name}`}>
          <FilterStamp code={row.key.filter_code} nm={row.passband_nm} />
        </button>
        <span className="block text-s whitespace-nowrap text-ink2">{row.lights}</span>
      </td>
      <td className={`${CELL} num text-right`}>{row.gain}</td>
      <td className={`${CELL} num text-right`}>{row.key.offset}</td>
      <td className={`${CELL} num text-right`}>{row.key.binning}</td>
      <WishedCells row={row} above={above} />
      <FoundCells row={row} />
    </tr>
  );
}

/** The rows, each with a box to choose it by. */
function SheetTable({
  rows,
  chosen,
  setChosen,
  onLook,
}: {
  rows: Row[];
  chosen: Set<string>;
  setChosen: (chosen: Set<string>) => void;
  onLook: (key: Key) => void;
}) {
  const toggle = (row: Row) => {
    const next = new Set(chosen);
    const name = keyText(row.key);
    if (next.has(name)) next.delete(name);
    else next.add(name);
    setChosen(next);
  };
  const all = chosen.size === rows.length && chosen.size > 0;
  const head = "narrow pt-1 pb-1.5 px-1.5 text-s font-semibold align-bottom";
  return (
    <table className="w-full border-collapse">
      <thead className="bg-paper shadow-[inset_0_-1px_0_var(--ink)] sticky top-0 z-10">
        <tr className="text-left">
          <th className={head}>
            <input
              type="checkbox"
              aria-label="Choose all rows"
              className="accent-[var(--ink)]"
              checked={all}
              onChange={() => setChosen(all ? new Set() : new Set(rows.map((r) => keyText(r.key))))}
            />
          </th>
          {HEADS.map(([name, side]) => (
            <th key={name} className={side === "right" ? `${head} text-right` : head}>
              {name}
            </th>
          ))}
        </tr>
      </thead>
      <tbody>
        {rows.map((row, at) => (
          <SheetRow
            key={row.name}
            row={row}
            above={rows[at - 1]}
            chosen={chosen.has(keyText(row.key))}
            onToggle={() => toggle(row)}
            onLook={onLook}
          />
        ))}
      </tbody>
    </table>
  );
}

/** What can be done with the rows of a rig's sheet. */
function useSheetChanges(rig: number, picked: Row[]) {
  const path = { rig_id: rig };
  const copy = useChange((source: Key) =>
    get(
      api.POST("/api/rigs/{rig_id}/flats/copy", {
        params: { path },
        body: { source, keys: picked.map((r) => r.key) },
      }),
    ),
  );
  const out = useChange((keys: Key[]) =>
    get(api.POST("/api/rigs/{rig_id}/flats/leave-out", { params: { path }, body: { keys } })),
  );
  const undo = useChange(async (rows: Kept["before"]) => {
    for (const { key, wishes } of rows)
      await get(
        api.POST("/api/rigs/{rig_id}/flats/rows", {
          params: { path },
          body: { keys: [key], changes: wishes as Schemas["FlatWishesOut"] },
        }),
      );
  });
  const back = useChange((key: Key) =>
    get(api.POST("/api/rigs/{rig_id}/flats/add", { params: { path }, body: key })),
  );
  return { copy, out, undo, back };
}

type Changes = ReturnType<typeof useSheetChanges>;

/** Makes the chosen rows wish what another one does. */
function CopyFrom({
  rows,
  picked,
  copy,
  onCopied,
}: {
  rows: Row[];
  picked: Row[];
  copy: Changes["copy"];
  onCopied: (source: Row) => void;
}) {
  const [from, setFrom] = useState("");
  const source = rows.find((r) => keyText(r.key) === from);
  return (
    <span className="flex items-center gap-2">
      <select
        aria-label="Row to copy what is wanted from"
        className="h-8 rounded-sm border border-rule bg-card px-2"
        value={from}
        onChange={(e) => setFrom(e.target.value)}
      >
        <option value="">Copy what is wanted from…</option>
        {rows.map((r) => (
          <option key={r.name} value={keyText(r.key)}>
            {r.name}
          </option>
        ))}
      </select>
      <Button
        disabled={!source || copy.isPending}
        onClick={() => source && copy.mutate(source.key, { onSuccess: () => onCopied(source) })}
      >
        Copy to {picked.length}
      </Button>
    </span>
  );
}

/** What is done with the rows stands below them. */
function SheetActions({
  data,
  rig,
  picked,
  names,
  changes,
  onEdit,
  onOut,
  remember,
}: {
  data: Sheet;
  rig: number;
  picked: Row[];
  names: string;
  changes: Changes;
  onEdit: () => void;
  onOut: () => void;
  remember: (said: string) => void;
}) {
  return (
    <div className="flex flex-wrap items-center gap-3">
      <Button disabled={picked.length === 0} onClick={onEdit}>
        {picked.length === 0
          ? "Choose rows to change them"
          : `Change ${picked.length === 1 ? picked[0]?.key.filter_code : `${picked.length} rows`}`}
      </Button>
      {picked.length > 0 && data.rows.length > 1 && (
        <CopyFrom
          rows={data.rows}
          picked={picked}
          copy={changes.copy}
          onCopied={(source) => remember(`${names}: wanted as for ${source.name}.`)}
        />
      )}
      {picked.length > 0 && (
        <Button look="link" onClick={onOut}>
          Leave off the sheet
        </Button>
      )}
      {data.left_out.map((key) => (
        <Button key={keyText(key)} look="link" onClick={() => changes.back.mutate(key)}>
          Put {filterName(key.filter_code)} (gain {key.gain}, bin {key.binning}) back
        </Button>
      ))}
      <span className="flex-1" />
      <a
        className="text-s text-ink2 underline underline-offset-2 hover:no-underline"
        href={`/api/rigs/${rig}/flats.csv`}
        download
      >
        Save the sheet as CSV
      </a>
    </div>
  );
}

/** Every row with everything it wishes and what was found; many can be changed at once. */
export function WholeSheet({
  data,
  rig,
  chosen,
  setChosen,
  onLook,
}: {
  data: Sheet;
  rig: number;
  chosen: Set<string>;
  setChosen: (chosen: Set<string>) => void;
  onLook: (key: Key) => void;
}) {
  const [editing, setEditing] = useState(false);
  const [kept, setKept] = useState<Kept | null>(null);
  const picked = data.rows.filter((r) => chosen.has(keyText(r.key)));
  const changes = useSheetChanges(rig, picked);
  const { copy, out, undo, back } = changes;
  const remember = (said: string) =>
    setKept({ said, before: picked.map((r) => ({ key: r.key, wishes: asItIs(r) })) });
  const names =
    picked.length > 4 ? `${picked.length} rows` : picked.map((r) => filterName(r.key.filter_code)).join(", ");
  const light = data.sources.find((s) => s.name === data.source);
  // A long sheet scrolls by itself, so that what is done with it stays in sight.
  const long = data.rows.length > 12 ? "max-h-[max(300px,calc(100vh-460px))] overflow-y-auto" : "";
  return (
    <div className="flex flex-col gap-4">
      <div className={`overflow-x-auto ${long}`}>
        <SheetTable rows={data.rows} chosen={chosen} setChosen={setChosen} onLook={onLook} />
        {data.rows.length === 0 && (
          <p className="py-6 text-l text-ink2">
            No lights of this rig tell a gain yet. Where its camera has none to set, say so on a slip of its
            lights; else put a row on the sheet, or scan lights in Intake.
          </p>
        )}
      </div>
      <SheetActions
        data={data}
        rig={rig}
        picked={picked}
        names={names}
        changes={changes}
        onEdit={() => setEditing((e) => !e)}
        onOut={() => {
          out.mutate(picked.map((r) => r.key));
          setChosen(new Set());
        }}
        remember={remember}
      />
      {kept && (
        <p role="status" className="flex items-baseline gap-3">
          {kept.said}
          <Button
            look="link"
            disabled={undo.isPending}
            onClick={() => undo.mutate(kept.before, { onSuccess: () => setKept(null) })}
          >
            Undo
          </Button>
        </p>
      )}
      {[copy.error, out.error, back.error, undo.error].map((error, i) =>
        error ? <Trouble key={i} error={error} /> : null,
      )}
      {editing && picked.length > 0 && (
        <Editor
          key={picked.map((r) => r.name).join()}
          rows={picked}
          rig={rig}
          dims={light?.dimmable ?? data.can_shoot}
          diffusers={(light?.diffusers ?? []).map((d) => d.name)}
          sources={data.sources.map((s) => s.name)}
          onDone={(changed) => {
            if (changed) remember(`What is wanted of ${names} is kept.`);
            setEditing(false);
          }}
        />
      )}
      <AddRow data={data} rig={rig} />
    </div>
  );
}
