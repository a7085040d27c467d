import { useRef, useState } from "react";

import { api, get, type Schemas } from "../../api/client";
import { useChange, useMeasurement } from "../../api/hooks";
import { Button, Segments, Trouble } from "../../parts/basics";
import { SaveLinks } from "../../parts/SaveLinks";
import { stepped, useStepKeys } from "../../parts/useStepKeys";
import { OffsetChart } from "./OffsetChart";
import { CameraCard, Findings, GoingOn, KeptFrames } from "./Shared";

type Measured = Schemas["MeasurementOut"];

/** A bar of the whole range, with what the offset gives up of it. */
function Cost({ effect, white }: { effect: Schemas["EffectOut"]; white: number }) {
  return (
    <div>
      <div className="h-3 border border-rule" aria-hidden>
        <div className="h-full bg-ink" style={{ width: `${Math.max((100 * effect.mean) / white, 0.4)}%` }} />
      </div>
      <p className="num flex justify-between pt-1 text-s">
        <span>
          {Math.round(effect.mean).toLocaleString("en")}
          <span className="text-ink2">{"\u2009"}ADU given up</span>
        </span>
        <span className="text-ink2">
          {white.toLocaleString("en")}
          {"\u2009"}ADU
        </span>
      </p>
    </div>
  );
}

/** The offset at one gain: the chart, and its reading beside it. */
export function OffsetView({
  data,
  bench,
  rig,
  gain,
  onGain,
  onForgotten,
}: {
  data: Measured;
  bench: Schemas["BenchOut"];
  rig: number;
  gain: number | null;
  onGain: (gain: number) => void;
  onForgotten: () => void;
}) {
  const chart = useRef<SVGSVGElement>(null);
  const [chosen, setChosen] = useState<{ gain: number; offset: number } | null>(null);
  const [under, setUnder] = useState<number | null>(null);
  const live = data.offset.find((g) => g.state === "going on" && g.n_frames > 0);
  const here = data.offset.find((g) => g.gain === gain) ?? live ?? data.offset[0];
  const before = data.earlier.filter((m) => here && m.gains.includes(here.gain));
  const earlier = useMeasurement(under);
  const accept = useChange((offset: number) =>
    get(
      api.POST("/api/measurements/{measurement_id}/accept", {
        params: { path: { measurement_id: data.id } },
        body: { gain: here?.gain ?? 0, offset },
      }),
    ),
  );
  const own = chosen && here && chosen.gain === here.gain ? chosen.offset : null;
  const effects = here?.effects;
  const answer = here?.answer?.offset ?? null;
  const step = (by: number) => {
    const next = stepped(
      effects ?? [],
      (effects ?? []).findIndex((e) => e.offset === (own ?? answer)),
      by,
    );
    if (next && here) setChosen({ gain: here.gain, offset: next.offset });
  };
  useStepKeys(step);
  if (!here) return null;
  const effect = own === null ? here.answer : (here.effects.find((e) => e.offset === own) ?? null);
  const kept = here.accepted && effect ? here.accepted.value === `${effect.offset}` : false;
  const keptHere = kept && here.accepted?.measurement_id === data.id;
  const name = `offset-${data.camera.replaceAll(" ", "-").toLowerCase()}-gain-${here.gain}`;
  return (
    <div className="grid grid-cols-[minmax(0,776px)_minmax(380px,1fr)] items-start gap-6 max-lg:grid-cols-1">
      <section className="border border-line bg-card px-5 pt-3 pb-2">
        <div className="flex items-center justify-between gap-4">
          <h2 className="text-l font-semibold">How far bias frames stay above zero</h2>
          {data.offset.length > 1 && (
            <Segments
              label="Gain"
              value={String(here.gain)}
              options={data.offset.map((g) => ({ value: String(g.gain), label: g.gain_text }))}
              onChange={(value) => onGain(Number(value))}
            />
          )}
        </div>
        {here.rungs.length > 0 ? (
          <OffsetChart
            data={here}
            earlier={earlier.data?.offset.find((g) => g.gain === here.gain) ?? null}
            chosen={own}
            onChoose={(offset) => setChosen({ gain: here.gain, offset })}
            chart={chart}
          />
        ) : (
          <p className="flex h-[500px] items-center justify-center text-ink2">
            {data.gate
              ? "It begins when the cap is on."
              : data.job?.can_stop
                ? "The first frame is on its way."
                : "No frame was taken."}
          </p>
        )}
        <div className="flex items-baseline justify-between gap-4 pt-1">
          <span className="flex items-baseline gap-3 text-s text-ink2">
            <span>
              {here.n_frames} frames, a full ladder takes {here.n_full_ladder}
            </span>
            {before.length > 0 && (
              <label className="flex items-baseline gap-1.5">
                lay under it
                <select
                  className="rounded-sm border border-rule bg-card px-1 text-s text-ink"
                  value={under ?? ""}
                  onChange={(event) => setUnder(event.target.value ? Number(event.target.value) : null)}
                >
                  <option value="">nothing</option>
                  {before.map((m) => (
                    <option key={m.id} value={m.id}>
                      {m.when}, {m.source}
                    </option>
                  ))}
                </select>
              </label>
            )}
          </span>
          {here.rungs.length > 0 && (
            <SaveLinks
              chart={chart}
              name={name}
              files={[
                { label: "CSV", href: `/api/measurements/${data.id}.csv` },
                ...(data.offset.length > 1
                  ? [{ label: "By gain CSV", href: `/api/measurements/${data.id}/by-gain.csv` }]
                  : []),
                { label: "JSON", href: `/api/measurements/${data.id}.json` },
              ]}
            />
          )}
        </div>
      </section>
      <div className="flex flex-col gap-5">
        <GoingOn data={data} next={here.next} />
        <section className={here.n_frames === 0 ? "hidden" : ""}>
          <h2 className="text-xxl font-semibold" style={{ fontStretch: "88%" }}>
            {own !== null && own !== answer ? `Offset ${own}` : here.headline}
          </h2>
          <p className="pt-1 text-l">
            {own !== null && own !== answer && effect ? effect.says : here.reason}
          </p>
          {here.effects.length > 1 && answer !== null && (
            <div className="flex flex-wrap items-center gap-2 pt-3">
              <span
                className="flex items-center rounded-sm border border-rule"
                role="group"
                aria-label="Another offset"
              >
                <button
                  type="button"
                  className="h-8 w-8 text-l"
                  onClick={() => step(-1)}
                  aria-label="One lower"
                >
                  −
                </button>
                <output className="num w-10 text-center text-l">{own ?? answer}</output>
                <button
                  type="button"
                  className="h-8 w-8 text-l"
                  onClick={() => step(1)}
                  aria-label="One higher"
                >
                  +
                </button>
              </span>
              {here.state !== "going on" && !data.job?.can_stop && (
                <Button
                  look={here.accepted?.measurement_id === data.id || own !== null ? "plain" : "accent"}
                  disabled={keptHere || accept.isPending}
                  onClick={() => accept.mutate(own ?? answer)}
                >
                  {keptHere
                    ? `Kept for ${here.gain_text}`
                    : `Keep offset ${own ?? answer} for ${here.gain_text}`}
                </Button>
              )}
              {own !== null && own !== answer && (
                <Button look="link" onClick={() => setChosen(null)}>
                  Back to {answer}
                </Button>
              )}
            </div>
          )}
          {accept.error && <Trouble error={accept.error} />}
        </section>
        {effect && (
          <section>
            <h3 className="pb-1.5 font-semibold">
              {(own === null || own === answer) && here.cost ? here.cost : "What it costs"}
            </h3>
            <Cost effect={effect} white={here.white} />
          </section>
        )}
        <Findings items={here.findings} notes={data.notes} />
        {here.dead.length > 0 && (
          <p className="text-s text-ink2">
            {here.dead.length === 1 ? "One dead pixel" : `${here.dead.length} dead pixels`} left out, at
            column and row{" "}
            <span className="num">
              {here.dead
                .slice(0, 8)
                .map((d) => `${d.column}/${d.row}`)
                .join("  ")}
            </span>
            {here.dead.length > 8 && ` and ${here.dead.length - 8} more`}: in nearly every frame the lowest,
            at {Math.round(here.dead[0]?.level ?? 0)} ADU.
          </p>
        )}
        <CameraCard rows={bench.accepted} rig={rig} kind="offset" camera={data.camera} />
        <KeptFrames data={data} onForgotten={onForgotten} />
      </div>
    </div>
  );
}
