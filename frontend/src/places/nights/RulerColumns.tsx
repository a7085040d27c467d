import { type Schemas } from "../../api/client";
import { Ruler } from "../../parts/Ruler";

export type Candidate = Schemas["CandidateOut"];

/** Pixels that a letter takes: of the values beside rulers, and of what stands above them. */
const LETTER = 7.3;

const TITLE_LETTER = 4.8;

/** Between columns, and between a ruler and its value. */
const GAP = 8;

export function columnTitle(column: string, candidates: (Candidate | null)[], gainWord: string): string {
  const name = column === "gain" ? gainWord : column;
  for (const candidate of candidates) {
    const ruler = candidate?.rulers.find((r) => r.quantity === column);
    if (ruler && ruler.tolerance !== null && ruler.kind === "band") {
      if (ruler.note.startsWith("±")) return `${name}, ${ruler.note}`;
      return `${name}, ±${ruler.tolerance}${ruler.unit === "°" ? "°" : ` ${ruler.unit}`}`;
    }
  }
  return name;
}

/** Whether the value is written beside a ruler: not where a tick on the line says it all, or nothing is known. */
const isTold = (ruler: Candidate["rulers"][number], column: Column) =>
  ruler.kind === "exact"
    ? ruler.from_name || ruler.by_hand || (!ruler.inside && !ruler.unknown)
    : column.known;

/** A ruler's value as it stands beside it: steps are counted, and the title says so. */
const told = (ruler: Candidate["rulers"][number]) =>
  ruler.unit === "steps" ? ruler.text.replace(/\s*steps/, "") : ruler.text;

const rulerWidth = (ruler: Candidate["rulers"][number]) => (ruler.unknown ? 30 : 50);

/** A column is as wide as what stands in it: a title, a ruler, and its value where that is told. */
export function columnWidth(column: Column, candidates: (Candidate | null)[]): number {
  const { name, title } = column;
  const rulers = candidates.flatMap((c) => c?.rulers.filter((r) => r.quantity === name) ?? []);
  const widths = rulers.map((r) => {
    const marks = Number(r.from_name) + Number(r.by_hand);
    const value = isTold(r, column) ? GAP + LETTER * (told(r).length + marks) : 0;
    return (r.kind === "exact" ? 32 : rulerWidth(r)) + value + GAP;
  });
  return Math.max(TITLE_LETTER * title.length + GAP, ...widths);
}

/** A column of rulers. */
export interface Column {
  name: string;
  /** What stands above it; above each of its rulers where rows are stacked. */
  title: string;
  /** Whether any of its values is known: of none the reasons below say so. */
  known: boolean;
}

export function Rulers({ candidate, columns }: { candidate: Candidate; columns: Column[] }) {
  return (
    <>
      {columns.map((column) => {
        const { name, title } = column;
        const ruler = candidate.rulers.find((r) => r.quantity === name);
        return (
          <td
            key={name}
            className={`pr-1 align-middle ${!ruler ? "stacked:hidden" : ruler.kind === "exact" && !isTold(ruler, column) ? "stacked:col-span-2" : "stacked:col-span-3"}`}
          >
            {ruler && (
              <>
                <span className="narrow block text-s text-ink2 not-stacked:hidden">{title}</span>
                <Ruler
                  ruler={{ ...ruler, text: told(ruler) }}
                  width={rulerWidth(ruler)}
                  text={isTold(ruler, column)}
                />
              </>
            )}
          </td>
        );
      })}
    </>
  );
}
