import { useState } from "react";

import { api, get, type Schemas } from "../../api/client";
import { useChange } from "../../api/hooks";
import { Trouble } from "../../parts/basics";
import { Label } from "../../parts/Label";

type CardData = Schemas["CardOut"];
type Input = Schemas["InputOut"];

/** So many of the frames that were left out are named. */
const MOST_NAMED = 12;

/** What of each frame the strip can show. */
const SHOWN = [
  { name: "level", label: "level", unit: "ADU", digits: 0, of: (i: Input) => i.mean ?? i.level },
  { name: "noise", label: "noise", unit: "ADU", digits: 1, of: (i: Input) => i.noise },
  { name: "temp", label: "temperature", unit: "°C", digits: 1, of: (i: Input) => i.temp },
] as const;

/** A dot for each frame in the order taken; those left out are open circles, the one looked at has a ring. */
function Dots({
  frames,
  value,
  number,
  unit,
  looked,
  onLook,
  label,
}: {
  frames: Input[];
  label: string;
  value: (input: Input) => number | null;
  number: (value: number) => string;
  unit: string;
  looked: number | null;
  onLook: (frameId: number) => void;
}) {
  const used = frames.filter((f) => f.used).map((f) => value(f) ?? 0);
  const low = Math.min(...used);
  const high = Math.max(...used);
  const pad = Math.max((high - low) * 0.2, 1e-9, Math.abs(high) * 1e-5);
  const y = (v: number) => 6 + 40 * (1 - Math.min(1, Math.max(0, (v - low + pad) / (high - low + 2 * pad))));
  const x = (index: number) => 8 + (index * 450) / Math.max(frames.length - 1, 1);
  return (
    <svg width="540" height="52" className="mt-1 block" role="img" aria-label={label}>
      <rect x="2" y={y(high)} width="462" height={Math.max(y(low) - y(high), 2)} fill="var(--board)" />
      {frames.map((frame, index) => {
        const v = value(frame) ?? 0;
        return (
          <g
            key={frame.name}
            className={frame.frame_id === null ? "" : "cursor-pointer"}
            onClick={() => frame.frame_id !== null && onLook(frame.frame_id)}
          >
            <title>{`${frame.name}: ${number(v)}\u2009${unit}${frame.reason ? `, ${frame.reason}` : ""}`}</title>
            <rect x={x(index) - 5} y="0" width="10" height="52" fill="transparent" />
            {looked !== null && looked === frame.frame_id && (
              <circle cx={x(index)} cy={y(v)} r="6" fill="none" stroke="var(--ink)" />
            )}
            {frame.used ? (
              <circle cx={x(index)} cy={y(v)} r="2" fill="var(--ink)" />
            ) : (
              <circle
                cx={x(index)}
                cy={y(v)}
                r="3.5"
                fill="var(--card)"
                stroke="var(--accent)"
                strokeWidth="1.6"
              />
            )}
          </g>
        );
      })}
      <Label x="472" y={y(high) + 4} num>
        {number(high)}
      </Label>
      {y(low) - y(high) > 12 && (
        <Label x="472" y={y(low) + 4} num>
          {number(low)}
        </Label>
      )}
    </svg>
  );
}

/** Whether the frame that is looked at goes into the next master, and why not. */
function UseOfFrame({ card, input }: { card: CardData; input: Input }) {
  const say = useChange(({ use }: { use: "in" | "out" | "as found" }) =>
    get(
      api.PUT("/api/holdings/{set_id}/frames/{frame_id}", {
        params: { path: { set_id: card.spine.id, frame_id: input.frame_id ?? 0 } },
        body: { use },
      }),
    ),
  );
  const goesIn = input.by_hand === "" ? input.used : input.by_hand === "in";
  const changed = input.by_hand !== "";
  return (
    <p className="text-s text-ink2">
      <span className="text-ink">{input.name}</span> {input.used ? "is in it" : "was left out"}
      {input.reason && `: ${input.reason}`}
      {changed && goesIn !== input.used && `; it ${goesIn ? "goes into" : "is left out of"} the next one`}.
      {card.can_remake && (
        <>
          <button
            type="button"
            className="ml-2 font-semibold underline"
            disabled={say.isPending}
            onClick={() => say.mutate({ use: goesIn ? "out" : "in" })}
          >
            {goesIn ? "Take it out" : "Put it in"}
          </button>
          {changed && (
            <button
              type="button"
              className="ml-2 underline"
              disabled={say.isPending}
              onClick={() => say.mutate({ use: "as found" })}
            >
              Leave it to the checks
            </button>
          )}
        </>
      )}
      {say.error ? <Trouble error={say.error} /> : null}
    </p>
  );
}

/** The frames of a master over time, by what is chosen; the one looked at can be put in or taken out. */
export function FrameStrip({
  card,
  looked,
  onLook,
}: {
  card: CardData;
  looked: number | null;
  onLook: (frameId: number) => void;
}) {
  const [by, setBy] = useState<(typeof SHOWN)[number]["name"]>("level");
  const can = SHOWN.filter((s) => card.inputs.filter((i) => s.of(i) !== null).length > 1);
  const shown = can.find((s) => s.name === by) ?? can[0];
  if (!shown) return null;
  const frames = card.inputs.filter((i) => shown.of(i) !== null);
  // Ends that lie close together are told as finely as they differ.
  const used = frames.filter((f) => f.used).map((f) => shown.of(f) ?? 0);
  const range = Math.max(...used) - Math.min(...used);
  const digits = Math.max(shown.digits, range < 1 ? 2 : range < 10 ? 1 : 0);
  // The ends stand in a narrow place: their unit is told with what is shown.
  const number = (value: number) =>
    value
      .toLocaleString("en", { minimumFractionDigits: digits, maximumFractionDigits: digits })
      .replace("-", "−");
  const leftOut = card.inputs.filter((frame) => !frame.used && frame.frame_id !== looked);
  const input = looked === null ? undefined : card.inputs.find((i) => i.frame_id === looked);
  return (
    <section className="border-t border-line pt-3">
      <div className="flex items-baseline justify-between">
        <h3 className="narrow flex items-baseline gap-2 font-semibold">
          Frames in the order taken, by
          {can.map((s) => (
            <button
              key={s.name}
              type="button"
              aria-pressed={s.name === shown.name}
              className={s.name === shown.name ? "border-b-2 border-ink" : "font-normal text-ink2 underline"}
              onClick={() => setBy(s.name)}
            >
              {s.label}
              {s.name === shown.name && `, ${s.unit}`}
            </button>
          ))}
        </h3>
        <span className="flex gap-3 text-s text-ink2">
          {card.inputs_note}
          <a className="underline" href={`/api/holdings/${card.spine.id}/inputs.csv`}>
            CSV
          </a>
        </span>
      </div>
      <Dots
        label={`${shown.label[0]?.toUpperCase()}${shown.label.slice(1)} of ${frames.length} frames`}
        frames={frames}
        value={shown.of}
        number={number}
        unit={shown.unit}
        looked={looked}
        onLook={onLook}
      />
      {input && <UseOfFrame card={card} input={input} />}
      {leftOut.slice(0, MOST_NAMED).map((frame) => (
        <p key={frame.name} className="text-s text-ink2">
          <span className="text-accent">left out</span> {frame.name}: {frame.reason}
          {frame.frame_id !== null && (
            <button type="button" className="ml-2 underline" onClick={() => onLook(frame.frame_id ?? 0)}>
              Look at it
            </button>
          )}
        </p>
      ))}
      {leftOut.length > MOST_NAMED && (
        <p className="text-s text-ink2">and {leftOut.length - MOST_NAMED} more, all in the CSV</p>
      )}
    </section>
  );
}
