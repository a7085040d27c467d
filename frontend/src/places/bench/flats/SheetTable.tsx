import { FilterStamp } from "../../../parts/FilterStamp";
import { Ruler } from "../../../parts/Ruler";
import { keyText, type Key, type Row, type Wishes } from "./keys";

/** What was changed last, and what takes it back. */
export interface Kept {
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
export function SheetTable({
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
