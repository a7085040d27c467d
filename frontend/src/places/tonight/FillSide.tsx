import { useState } from "react";

import { api, get } from "../../api/client";
import { useChange } from "../../api/hooks";
import { Button, ColumnHead, Trouble } from "../../parts/basics";
import { numberOf } from "../../parts/typedNumber";
import { Ready } from "./Ready";
import type { FillCell, FillChoice, FillData } from "./useFill";

/** What is known of the cell that was last pointed at, and how many of it are shot. */
export function About({
  cell,
  choice,
  change,
}: {
  cell: FillCell | null;
  choice: FillChoice;
  change: (next: Partial<FillChoice>) => void;
}) {
  if (!cell)
    return (
      <section>
        <ColumnHead>What a cell says</ColumnHead>
        <p className="py-2 text-ink2">
          Framed in ink: it is shot, with its frames and its time. Dashed: it would help. Press a cell to put
          it on the sheet or to take it off.
        </p>
      </section>
    );
  const on = cell.state === "on";
  const own = choice.counts[cell.key];
  return (
    <section aria-live="polite">
      <ColumnHead note={on ? `takes ${cell.takes}` : undefined}>{cell.title}</ColumnHead>
      <dl className="grid grid-cols-[64px_1fr] gap-x-2 gap-y-1 py-2">
        {cell.there && (
          <>
            <dt className="text-ink2">there</dt>
            <dd>
              {cell.there_id === null ? (
                cell.there
              ) : (
                <a className="underline" href={`/shelf?pull=${cell.there_id}`}>
                  {cell.there}
                </a>
              )}
            </dd>
          </>
        )}
        {cell.why && (
          <>
            <dt className="text-ink2">why</dt>
            <dd>{cell.why}</dd>
          </>
        )}
        {cell.for_whom && (
          <>
            <dt className="text-ink2">lights</dt>
            <dd>
              {cell.lights} of {cell.for_whom}
            </dd>
          </>
        )}
        {cell.helps && (
          <>
            <dt className="text-ink2">helps</dt>
            <dd>{cell.helps}</dd>
          </>
        )}
      </dl>
      {on && (
        <label className="flex items-center gap-2 pb-1">
          Frames
          <input
            type="number"
            min={1}
            max={1000}
            value={own ?? cell.frames}
            onChange={(event) => {
              const frames = Math.round(Number(event.target.value));
              if (frames >= 1 && frames <= 1000) change({ counts: { ...choice.counts, [cell.key]: frames } });
            }}
            className="num h-8 w-20 rounded-sm border border-rule bg-card px-2 text-right max-md:h-11"
          />
          {own !== undefined && (
            <Button
              look="link"
              onClick={() =>
                change({
                  counts: Object.fromEntries(
                    Object.entries(choice.counts).filter(([key]) => key !== cell.key),
                  ),
                })
              }
            >
              as proposed
            </Button>
          )}
        </label>
      )}
    </section>
  );
}

/** The choice of a gain and an offset that no lights have yet. */
const ANOTHER = "another";
const FIELD = "num h-8 min-w-0 flex-1 rounded-sm border border-rule bg-card px-2 max-md:h-11";

interface Dials {
  /** A wall's, or `ANOTHER`; empty takes the first wall's. */
  at: string;
  gain: string;
  offset: string;
  binning: string;
}

/** How the camera is set for a ladder, as the server takes it; null where what was typed is no number. */
function setSo(dials: Dials, wall: FillData["walls"][number] | undefined) {
  if (wall) return { set_up: wall.set_up, gain: 0, offset: 0, binning: 1 };
  const [gain, offset, binning] = [numberOf(dials.gain), numberOf(dials.offset), numberOf(dials.binning)];
  if (![gain, offset, binning].every((n) => Number.isFinite(n) && n >= 0)) return null;
  return { set_up: "", gain, offset, binning };
}

/** The gain and the offset of a ladder: those of a wall, or others that are typed. */
function At({
  data,
  dials,
  typed,
  onChange,
}: {
  data: FillData;
  dials: Dials;
  typed: boolean;
  onChange: (next: Partial<Dials>) => void;
}) {
  return (
    <>
      {data.walls.length > 0 && (
        <label className="flex items-center gap-2">
          <span className="w-16 text-ink2">at</span>
          <select
            value={typed ? ANOTHER : dials.at || data.walls[0]?.set_up}
            onChange={(e) => onChange({ at: e.target.value })}
            className="h-8 min-w-0 flex-1 rounded-sm border border-rule bg-card px-1 max-md:h-11"
          >
            {data.walls.map((w) => (
              <option key={w.set_up} value={w.set_up}>
                {w.title}
              </option>
            ))}
            <option value={ANOTHER}>another gain and offset</option>
          </select>
        </label>
      )}
      {typed &&
        (["gain", "offset", "binning"] as const).map((name) => (
          <label key={name} className="flex items-center gap-2">
            <span className="w-16 text-ink2">{name}</span>
            <input
              className={FIELD}
              inputMode="decimal"
              value={dials[name]}
              onChange={(e) => onChange({ [name]: e.target.value })}
            />
          </label>
        ))}
    </>
  );
}

/** A ladder of exposures at some set points, put on the sheet at once. */
export function Ladder({
  data,
  choice,
  change,
}: {
  data: FillData;
  choice: FillChoice;
  change: (next: Partial<FillChoice>) => void;
}) {
  const [dials, setDials] = useState<Dials>({ at: "", gain: "", offset: "", binning: "1" });
  const [exposures, setExposures] = useState("");
  const [temps, setTemps] = useState("");
  const first = data.walls[0];
  const wall = dials.at === ANOTHER ? undefined : (data.walls.find((w) => w.set_up === dials.at) ?? first);
  const at = setSo(dials, wall);
  const lay = useChange(async (set: NonNullable<typeof at>) => {
    const laid = await get(
      api.POST("/api/rigs/{rig_id}/fill/ladder", {
        params: { path: { rig_id: data.rig_id } },
        body: { exposures, temps, ...set },
      }),
    );
    change({
      put_on: [...new Set([...choice.put_on, ...laid.keys])],
      left_out: choice.left_out.filter((key) => !laid.keys.includes(key)),
    });
    return laid;
  });
  return (
    <form
      onSubmit={(event) => {
        event.preventDefault();
        if (at) lay.mutate(at);
      }}
    >
      <ColumnHead>Lay a ladder</ColumnHead>
      <div className="flex flex-col gap-1.5 py-2">
        <At data={data} dials={dials} typed={!wall} onChange={(next) => setDials({ ...dials, ...next })} />
        <label className="flex items-center gap-2">
          <span className="w-16 text-ink2">exposures</span>
          <input
            className={FIELD}
            value={exposures}
            onChange={(e) => setExposures(e.target.value)}
            placeholder="1, 2, 5, 10 s"
          />
        </label>
        <label className="flex items-center gap-2">
          <span className="w-16 text-ink2">set points</span>
          <input
            className={FIELD}
            value={temps}
            onChange={(e) => setTemps(e.target.value)}
            placeholder="−10, −5; empty: as it is"
          />
        </label>
        <span className="flex items-center justify-between gap-2">
          {wall?.light_exposures ? (
            <Button look="link" onClick={() => setExposures(wall.light_exposures)}>
              every exposure of its lights
            </Button>
          ) : (
            <span />
          )}
          <Button type="submit" disabled={!exposures.trim() || !at || lay.isPending}>
            Lay it
          </Button>
        </span>
        {lay.error ? <Trouble error={lay.error} /> : null}
      </div>
    </form>
  );
}

/** Before the start: what the cooler can, the room, the devices. */
export function Before({ data }: { data: FillData }) {
  return (
    <section>
      <ColumnHead>Before you start</ColumnHead>
      <ul>
        {data.warnings.map((warning) => (
          <li key={warning} className="border-b border-line py-1 text-accent" role="note">
            {warning}
          </li>
        ))}
        <Ready lines={data.ready} />
      </ul>
    </section>
  );
}
