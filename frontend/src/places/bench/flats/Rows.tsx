import { api, get, type Schemas } from "../../../api/client";
import { useChange } from "../../../api/hooks";
import { Button, Trouble } from "../../../parts/basics";
import { FilterStamp } from "../../../parts/FilterStamp";
import { Ruler } from "../../../parts/Ruler";
import { sameKey, type Key, type Row } from "./keys";
import { Label } from "../../../parts/Label";

/** Numbered rings, as many as test shots were taken. */
function Rings({ count }: { count: number }) {
  const shown = Math.min(count, 4);
  return (
    <span className="num flex justify-end gap-0.5 text-s" role="img" aria-label={`${count} test shots`}>
      {Array.from({ length: shown }, (_, i) => (
        <span
          key={i}
          aria-hidden
          className="inline-flex h-4 w-4 items-center justify-center rounded-full border border-ink2 text-[11px]"
        >
          {i === shown - 1 && count > shown ? count : i + 1}
        </span>
      ))}
    </span>
  );
}

/** How far off a level is, and what the stops of a diffuser do about it. */
function StopsPicture({ no }: { no: Schemas["NoOut"] }) {
  const bright = no.direction === "too bright";
  const from = bright ? 396 : 4;
  const to = bright ? 150 : 250;
  return (
    <svg viewBox="0 0 400 62" className="my-1 block w-full" aria-hidden>
      <path d="M4 34H396" stroke="var(--rule)" />
      <rect x={to - 9} y="27" width="18" height="14" fill="var(--band)" />
      <path d={`M${to} 24v20`} stroke="var(--ink)" strokeWidth="2.5" />
      <path d={`M${from} 22v24`} stroke="var(--accent)" strokeWidth="2.5" />
      <path
        d={`M${from} 34H${to + (bright ? 12 : -12)}m${bright ? 8 : -8} -5l${bright ? -8 : 8} 5l${bright ? 8 : -8} 5`}
        stroke="var(--accent)"
        strokeWidth="1.6"
        fill="none"
      />
      <text x={(from + to) / 2} y="18" textAnchor="middle" fontSize="13" fill="var(--accent)" className="num">
        {no.at_least ? "at least " : ""}
        {bright ? "−" : "+"}
        {no.stops.toFixed(1)} stops
      </text>
      <Label x={to} y="58" anchor="middle" strong>
        target
      </Label>
      <text
        x={from}
        y="58"
        textAnchor={bright ? "end" : "start"}
        fontSize="12"
        className="num"
        fill="var(--accent)"
      >
        {no.level_text} now
      </text>
    </svg>
  );
}

/** A row without answer, opened: why, by how much, and what can be done. */
function Failed({ row, rig }: { row: Row; rig: number }) {
  const again = useChange((changes: Schemas["FlatWishesOut"] | null) =>
    get(
      api.POST("/api/rigs/{rig_id}/flats/again", {
        params: { path: { rig_id: rig } },
        body: { key: row.key, changes },
      }),
    ),
  );
  const no = row.no_answer;
  if (!no) return null;
  return (
    <div className="border border-t-0 border-accent bg-card px-4 pt-2 pb-3">
      <h3 className="pb-1 text-l font-semibold">{no.title}</h3>
      <p>{no.message}</p>
      <p className="pt-1 font-semibold">{no.stack || no.advice}</p>
      {no.stops > 0 && no.direction !== "too coarse" && <StopsPicture no={no} />}
      {row.state === "waiting" ? (
        <p className="text-s text-ink2">It is tried again behind that, after the others.</p>
      ) : (
        <div className="flex flex-wrap gap-2 pt-1">
          <Button look="accent" disabled={again.isPending} onClick={() => again.mutate(null)}>
            {no.retry}
          </Button>
          {no.allow && (
            <Button disabled={again.isPending} onClick={() => again.mutate(no.allow_changes)}>
              {no.allow}
            </Button>
          )}
        </div>
      )}
      {again.error && <Trouble error={again.error} />}
    </div>
  );
}

/** The rows beside the chart: what was found for each, and how near it comes. */
export function Rows({
  rows,
  rig,
  chosen,
  onChoose,
}: {
  rows: Row[];
  rig: number;
  chosen: Key | null;
  onChoose: (key: Key) => void;
}) {
  const binned = rows.some((r) => r.key.binning !== 1);
  return (
    <div role="table" aria-label="Flat settings">
      <div
        role="row"
        className="narrow grid grid-cols-[52px_38px_36px_64px_1fr_64px] max-md:grid-cols-[52px_38px_36px_64px_1fr] gap-x-2 border-b border-ink bg-paper px-2 pt-1 pb-1.5 text-s font-semibold lg:sticky lg:top-0 lg:z-10"
      >
        <span role="columnheader">Filter</span>
        <span role="columnheader" className="text-right">
          Gain
        </span>
        <span role="columnheader" className="text-right">
          Panel
        </span>
        <span role="columnheader" className="text-right">
          Exposure
        </span>
        <span role="columnheader">Level</span>
        <span role="columnheader" className="text-right max-md:hidden">
          Shots
        </span>
      </div>
      {rows.map((row) => {
        const here = chosen !== null && sameKey(row.key, chosen);
        const failed = row.no_answer !== null;
        const note = row.stale || row.drift;
        return (
          <div key={row.name}>
            <div
              role="row"
              aria-label={`${row.name}: ${row.exposure}`}
              aria-current={here}
              className={`relative grid min-h-[38px] max-md:min-h-11 w-full grid-cols-[52px_38px_36px_64px_1fr_64px] max-md:grid-cols-[52px_38px_36px_64px_1fr] items-center gap-x-2 border-b px-2 text-left ${note || row.diffusers ? "pt-2.5" : "pt-1"} ${
                failed ? "border border-accent bg-card" : "border-line"
              } ${here ? "bg-card shadow-[inset_3px_0_0_var(--ink)]" : ""}`}
            >
              <span role="cell">
                <button
                  type="button"
                  aria-label={`Choose ${row.name}`}
                  onClick={() => onChoose(row.key)}
                  className="absolute inset-0"
                />
                <FilterStamp code={row.key.filter_code} nm={row.passband_nm} />
              </span>
              <span role="cell" className="num text-right">
                {row.gain}
                {binned && (
                  <span className="narrow block text-s whitespace-nowrap text-ink2">
                    bin {row.key.binning}
                  </span>
                )}
              </span>
              <span role="cell" className="num text-right">
                {row.brightness}
              </span>
              <span role="cell" className="num text-right font-medium whitespace-nowrap">
                {row.exposure}
              </span>
              <span role="cell">
                {row.state === "searching" ? (
                  <span className="text-accent">looking</span>
                ) : failed && row.no_answer ? (
                  <span className="narrow whitespace-nowrap text-accent">
                    {row.no_answer.direction}
                    {row.no_answer.stops > 0.05 && row.no_answer.direction !== "too coarse"
                      ? `, ${row.no_answer.at_least ? "≥" : ""}${row.no_answer.stops.toFixed(1)} stops`
                      : ""}
                  </span>
                ) : row.state === "waiting" ? (
                  <span className="text-s text-ink2">to come</span>
                ) : row.ruler ? (
                  <Ruler ruler={row.ruler} width={44} />
                ) : (
                  <span className="text-s text-ink2">never looked for</span>
                )}
              </span>
              <span role="cell" className="max-md:hidden">
                <Rings count={row.shots} />
              </span>
              {(note || row.diffusers) && (
                <span role="cell" className="col-span-full pb-1.5 text-s text-ink2">
                  {row.diffusers && `behind ${row.diffusers}`}
                  {row.diffusers && note ? "; " : ""}
                  {note && <span className="text-accent">{note}</span>}
                </span>
              )}
            </div>
            {failed && <Failed row={row} rig={rig} />}
          </div>
        );
      })}
    </div>
  );
}
