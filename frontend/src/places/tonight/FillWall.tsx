import { SmallSpine } from "../../parts/Spine";
import type { FillCell, FillData } from "./useFill";
import { several } from "../../parts/several";

type WallData = FillData["walls"][number];

const LOOKS: Record<FillCell["state"], string> = {
  on: "border-2 border-ink bg-card",
  off: "border-2 border-dashed border-rule",
  out: "border-2 border-dashed border-line text-ink2 line-through",
  "too cold": "border-2 border-dashed border-line text-ink2",
  there: "border border-line",
};

/** What a cell says in its lower line. */
function lower(cell: FillCell): string {
  if (cell.state === "on") return cell.takes;
  if (cell.state === "too cold") return "too cold";
  if (cell.state === "out") return "taken out";
  if (cell.state === "off") return cell.lights ? several(cell.lights, "light") : "not now";
  return "";
}

interface CellProps {
  cell: FillCell;
  chosen: boolean;
  onChoose: () => void;
  onToggle: () => void;
}

/** One exposure at one set point: what stands there, and how many are shot. Pressing it clicks it in or out. */
export function Cell({ cell, chosen, onChoose, onToggle }: CellProps) {
  const told = cell.state === "on" ? `${cell.frames} will be shot` : lower(cell) || "not on the sheet";
  const wanted = cell.missing && cell.state !== "on";
  return (
    <button
      type="button"
      aria-pressed={cell.state === "on"}
      aria-label={`${cell.title}: ${told}${cell.there ? `; there: ${cell.there}` : ""}`}
      disabled={cell.state === "too cold"}
      onFocus={onChoose}
      onMouseEnter={onChoose}
      onClick={() => {
        onChoose();
        onToggle();
      }}
      className={`relative flex h-[58px] w-full min-w-[92px] items-stretch gap-2 rounded-sm px-2 py-1 text-left hover:border-ink ${LOOKS[cell.state]} ${chosen ? "outline-2 outline-offset-1 outline-ink" : ""} ${wanted ? "border-accent" : ""}`}
    >
      {cell.there && (
        <span className="self-end">
          <SmallSpine step={cell.age_step} care={cell.why !== "" && !cell.missing && cell.lights > 0} />
        </span>
      )}
      <span className="flex min-w-0 flex-1 flex-col justify-between">
        <span className={`num text-l leading-5 ${cell.state === "on" ? "font-semibold" : "text-ink2"}`}>
          {cell.state === "on" ? cell.frames : cell.there ? cell.there.split(" ")[0] : ""}
        </span>
        <span className={`truncate text-s ${wanted ? "text-accent" : "text-ink2"}`}>
          {lower(cell) || cell.there.split(", ")[1]}
        </span>
      </span>
    </button>
  );
}

/** The darks of one way the camera is set: rows are set points, columns exposures. The wall is the plan. */
export function FillWall({
  wall,
  chosen,
  onChoose,
  onToggle,
}: {
  wall: WallData;
  chosen: string | null;
  onChoose: (cell: FillCell) => void;
  onToggle: (cell: FillCell) => void;
}) {
  return (
    <section aria-label={wall.title} className="min-w-0">
      <h2 className="narrow border-b border-ink pb-1 text-l font-semibold">{wall.title}</h2>
      {wall.rows.length === 0 ? (
        <p className="py-3 text-ink2">No dark stands here, and none is offered.</p>
      ) : (
        <div className="overflow-x-auto pt-1 pb-1">
          <table className="border-separate border-spacing-1">
            <thead>
              <tr>
                <th className="w-[92px]" />
                {wall.columns.map((column) => (
                  <th key={column} scope="col" className="num text-left text-s font-normal text-ink2">
                    {column}
                  </th>
                ))}
              </tr>
            </thead>
            <tbody>
              {wall.rows.map((row) => (
                <tr key={row.temp}>
                  <th
                    scope="row"
                    className="sticky left-0 z-10 bg-paper pr-2 text-left align-middle font-semibold whitespace-nowrap"
                  >
                    <span className={row.held ? "" : "text-accent"}>{row.temp}</span>
                    {row.power && (
                      <span className="block text-s font-normal text-ink2" title={row.power}>
                        {row.power.split(" of")[0]} power
                      </span>
                    )}
                  </th>
                  {row.cells.map((cell, at) => (
                    <td key={wall.columns[at]} className="min-w-[96px] p-0">
                      {cell && (
                        <Cell
                          cell={cell}
                          chosen={chosen === cell.key}
                          onChoose={() => onChoose(cell)}
                          onToggle={() => onToggle(cell)}
                        />
                      )}
                    </td>
                  ))}
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
    </section>
  );
}
