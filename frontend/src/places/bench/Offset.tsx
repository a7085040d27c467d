import { useRef, useState } from "react";

import { api, get, type Schemas } from "../../api/client";
import { useChange, useMeasurement } from "../../api/hooks";
import { Button, Segments, Trouble } from "../../parts/basics";
import { SaveLinks } from "../../parts/SaveLinks";
import { stepped, useStepKeys } from "../../parts/useStepKeys";
import { OffsetChart } from "./OffsetChart";
import { CameraCard, Findings, GoingOn, KeptFrames, LayUnder } from "./Shared";

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

type OfGain = Schemas["OffsetGainOut"];

/** The chart, with the gains that can be looked at and an earlier measurement beneath. */
function ChartCard({
  data,
  here,
  chosen,
  onChoose,
  onGain,
}: {
  data: Measured;
  here: OfGain;
  chosen: number | null;
  onChoose: (offset: number) => void;
  onGain: (gain: number) => void;
}) {
  const chart = useRef<SVGSVGElement>(null);
  const [under, setUnder] = useState<number | null>(null);
  const earlier = useMeasurement(under);
  const before = data.earlier.filter((m) => m.gains.includes(here.gain));
  const name = `offset-${data.camera.replaceAll(" ", "-").toLowerCase()}-gain-${here.gain}`;
  const base = `/api/measurements/${data.id}`;
  const byGain = data.offset.length > 1 ? [{ label: "By gain CSV", href: `${base}/by-gain.csv` }] : [];
  return (
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
          chosen={chosen}
          onChoose={onChoose}
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
            <LayUnder label="lay under it" earlier={before} value={under} onChange={setUnder} />
          )}
        </span>
        {here.rungs.length > 0 && (
          <SaveLinks
            chart={chart}
            name={name}
            files={[
              { label: "CSV", href: `${base}.csv` },
              ...byGain,
              { label: "JSON", href: `${base}.json` },
            ]}
          />
        )}
      </div>
    </section>
  );
}

/** Another offset than the answer, and what is kept with the camera. */
function Choice({
  data,
  here,
  own,
  answer,
  step,
  onBack,
}: {
  data: Measured;
  here: OfGain;
  own: number | null;
  answer: number;
  step: (by: number) => void;
  onBack: () => void;
}) {
  const accept = useChange((offset: number) =>
    get(
      api.POST("/api/measurements/{measurement_id}/accept", {
        params: { path: { measurement_id: data.id } },
        body: { gain: here.gain, offset },
      }),
    ),
  );
  const chosen = own ?? answer;
  const ofThis = here.accepted?.measurement_id === data.id;
  const kept = ofThis && here.accepted?.value === `${chosen}`;
  const arrow = "h-8 w-8 text-l";
  return (
    <>
      <div className="flex flex-wrap items-center gap-2 pt-3">
        <span
          className="flex items-center rounded-sm border border-rule"
          role="group"
          aria-label="Another offset"
        >
          <button type="button" className={arrow} onClick={() => step(-1)} aria-label="One lower">
            −
          </button>
          <output className="num w-10 text-center text-l">{chosen}</output>
          <button type="button" className={arrow} onClick={() => step(1)} aria-label="One higher">
            +
          </button>
        </span>
        {here.state !== "going on" && !data.job?.can_stop && (
          <Button
            look={ofThis || own !== null ? "plain" : "accent"}
            disabled={kept || accept.isPending}
            onClick={() => accept.mutate(chosen)}
          >
            {kept ? `Kept for ${here.gain_text}` : `Keep offset ${chosen} for ${here.gain_text}`}
          </Button>
        )}
        {chosen !== answer && (
          <Button look="link" onClick={onBack}>
            Back to {answer}
          </Button>
        )}
      </div>
      {accept.error && <Trouble error={accept.error} />}
    </>
  );
}

/** Pixels that were left out, since they are always the lowest. */
function DeadPixels({ dead }: { dead: Schemas["DeadOut"][] }) {
  if (dead.length === 0) return null;
  const places = dead.slice(0, 8).map((d) => `${d.column}/${d.row}`);
  return (
    <p className="text-s text-ink2">
      {dead.length === 1 ? "One dead pixel" : `${dead.length} dead pixels`} left out, at column and row{" "}
      <span className="num">{places.join("  ")}</span>
      {dead.length > 8 && ` and ${dead.length - 8} more`}: in nearly every frame the lowest, at{" "}
      {Math.round(dead[0]?.level ?? 0)} ADU.
    </p>
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
  const [chosen, setChosen] = useState<{ gain: number; offset: number } | null>(null);
  const live = data.offset.find((g) => g.state === "going on" && g.n_frames > 0);
  const here = data.offset.find((g) => g.gain === gain) ?? live ?? data.offset[0];
  const own = chosen && here && chosen.gain === here.gain ? chosen.offset : null;
  const answer = here?.answer?.offset ?? null;
  const step = (by: number) => {
    const effects = here?.effects ?? [];
    const at = effects.findIndex((e) => e.offset === (own ?? answer));
    const next = stepped(effects, at, by);
    if (next && here) setChosen({ gain: here.gain, offset: next.offset });
  };
  useStepKeys(step);
  if (!here) return null;
  const effect = own === null ? here.answer : (here.effects.find((e) => e.offset === own) ?? null);
  const other = own !== null && own !== answer;
  return (
    <div className="grid grid-cols-[minmax(0,776px)_minmax(380px,1fr)] items-start gap-6 max-lg:grid-cols-1">
      <ChartCard
        data={data}
        here={here}
        chosen={own}
        onChoose={(offset) => setChosen({ gain: here.gain, offset })}
        onGain={onGain}
      />
      <div className="flex flex-col gap-5">
        <GoingOn data={data} next={here.next} />
        <section className={here.n_frames === 0 ? "hidden" : ""}>
          <h2 className="text-xxl font-semibold" style={{ fontStretch: "88%" }}>
            {other ? `Offset ${own}` : here.headline}
          </h2>
          <p className="pt-1 text-l">{other && effect ? effect.says : here.reason}</p>
          {effect?.left_behind && <p className="pt-1.5 text-ink2">{effect.left_behind}</p>}
          {here.effects.length > 1 && answer !== null && (
            <Choice
              data={data}
              here={here}
              own={own}
              answer={answer}
              step={step}
              onBack={() => setChosen(null)}
            />
          )}
        </section>
        {effect && (
          <section>
            <h3 className="pb-1.5 font-semibold">{!other && here.cost ? here.cost : "What it costs"}</h3>
            <Cost effect={effect} white={here.white} />
          </section>
        )}
        <Findings items={here.findings} notes={data.notes} />
        <DeadPixels dead={here.dead} />
        <CameraCard rows={bench.accepted} rig={rig} kind="offset" camera={data.camera} />
        <KeptFrames data={data} onForgotten={onForgotten} />
      </div>
    </div>
  );
}
