import type { ReactNode } from "react";

import { Segments, Trouble } from "../basics";
import { Held, type Against } from "./Held";
import { Levels } from "./Levels";
import { Line } from "./Line";
import type { Ends } from "./Pane";
import { asText, useHistogram, useProfile, type Along, type Colour, type Looked, type View } from "./views";

/** A line through the picture: which, where, and over how many rows. */
export interface Drawn {
  along: Along;
  x: number;
  y: number;
  band: number;
}

const LINES: { value: Along; label: string }[] = [
  { value: "row", label: "row" },
  { value: "column", label: "column" },
  { value: "radius", label: "outwards" },
];

function nameOf(line: Drawn): string {
  if (line.along === "radius") return "From the middle outwards";
  const at = line.along === "row" ? line.y : line.x;
  const many = line.band > 1 ? `, mean of ${line.band}` : "";
  return `${line.along === "row" ? "Row" : "Column"} ${at}${many}`;
}

/** Levels along a line that was chosen on the picture. */
function Lines({
  looked,
  view,
  line,
  onLine,
}: {
  looked: Looked;
  view: View;
  line: Drawn | null;
  onLine: (line: Drawn | null) => void;
}) {
  const place = line?.along === "column" ? line.x : (line?.y ?? 0);
  const profile = useProfile(looked, line?.along ?? null, place, line?.band ?? 1);
  const first = { x: Math.floor(view.width / 2), y: Math.floor(view.height / 2), band: 1 };
  return (
    <section className="border-t border-line pt-2.5">
      <div className="flex items-center justify-between">
        <h3 className="narrow font-semibold">Along a line</h3>
        {line && (
          <button type="button" className="text-s text-ink2 underline" onClick={() => onLine(null)}>
            Hide it
          </button>
        )}
      </div>
      <div className="mt-1 flex flex-wrap items-center gap-2">
        <Segments
          label="Line"
          value={line?.along ?? ("" as Along)}
          options={LINES}
          onChange={(along) => onLine({ ...(line ?? first), along })}
        />
        {line && line.along !== "radius" && (
          <Segments
            label="Mean of so many"
            value={String(line.band)}
            options={["1", "11", "51"].map((n) => ({ value: n, label: n }))}
            onChange={(band) => onLine({ ...line, band: Number(band) })}
          />
        )}
      </div>
      {line && line.along !== "radius" && (
        <p className="mt-1 text-s text-ink2">A press on the picture puts it elsewhere.</p>
      )}
      {line && profile.error ? <Trouble error={profile.error} /> : null}
      {line && profile.data && (
        <Line
          profile={profile.data}
          digits={view.digits}
          unit={view.unit}
          name={nameOf(line)}
          csv={`/api/frames/${looked.frame}/profile.csv?${asText(looked, { along: line.along, place, band: line.band })}`}
        />
      )}
    </section>
  );
}

/** Beside the picture: its levels and their stretch, its colours, what it is held against, levels along a line. */
export function Aside({
  which,
  looked,
  view,
  ends,
  onEnds,
  colours,
  onColour,
  held,
  line,
  onLine,
  children,
}: {
  /** Of which of two pictures this is told. */
  which?: ReactNode;
  looked: Looked;
  view: View;
  ends: Ends;
  onEnds: (ends: Ends | null) => void;
  colours: Colour[];
  onColour: (colour: Colour | undefined) => void;
  held: {
    other: number | null;
    against: Against;
    set: (other: number | null, against: Against) => void;
    turn: () => void;
  } | null;
  line: Drawn | null;
  onLine: (line: Drawn | null) => void;
  children?: ReactNode;
}) {
  const histogram = useHistogram(looked);
  const asAtFirst = ends.black === view.black && ends.white === view.white;
  return (
    <aside className="flex w-[324px] shrink-0 flex-col gap-3 overflow-auto border-l border-line px-4 py-3 max-md:w-auto max-md:border-t max-md:border-l-0">
      {which && <div>{which}</div>}
      <section>
        <div className="flex items-center justify-between">
          <h3 className="narrow font-semibold">Levels{view.unit === "ADU" && ", ADU"}</h3>
          {!asAtFirst && (
            <button type="button" className="text-s text-ink2 underline" onClick={() => onEnds(null)}>
              As at first
            </button>
          )}
        </div>
        {histogram.error ? <Trouble error={histogram.error} /> : null}
        {histogram.data ? (
          <Levels
            histogram={histogram.data}
            ends={ends}
            digits={view.digits}
            unit={view.unit}
            onEnds={onEnds}
          />
        ) : (
          <p className="h-[140px] text-ink2">{!histogram.error && "Counting levels…"}</p>
        )}
      </section>
      {colours.length > 0 && (
        <section className="border-t border-line pt-2.5">
          <h3 className="narrow font-semibold">Colours</h3>
          <Segments
            label="Colour"
            value={looked.colour ?? "together"}
            options={[
              { value: "together" as const, label: "together" },
              ...colours.map((c) => ({ value: c, label: c })),
            ]}
            onChange={(c) => onColour(c === "together" ? undefined : c)}
          />
        </section>
      )}
      {held && (
        <Held
          frame={looked.frame}
          other={held.other}
          against={held.against}
          onOther={(other) => held.set(other, held.against)}
          onAgainst={(against) => held.set(held.other, against)}
          onTurn={held.turn}
        />
      )}
      <Lines looked={looked} view={view} line={line} onLine={onLine} />
      {children}
    </aside>
  );
}
