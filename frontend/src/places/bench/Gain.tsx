import { useRef, useState } from "react";

import { api, get, type Schemas } from "../../api/client";
import { useChange, useMeasurement } from "../../api/hooks";
import { Button, ColumnHead, Figure, Segments, Trouble } from "../../parts/basics";
import { SaveLinks } from "../../parts/SaveLinks";
import { stepped, useStepKeys } from "../../parts/useStepKeys";
import { GainCurves, speaks } from "./GainCurves";
import { CameraCard, Findings, GoingOn, KeptFrames, LayUnder } from "./Shared";
import { TransferChart } from "./TransferChart";

type Measured = Schemas["MeasurementOut"];
type Channel = Schemas["ChannelOut"];

const COLOUR: Record<string, string> = { "": "all pixels", R: "red", G: "green", B: "blue" };

function Figures({ channel }: { channel: Channel }) {
  const step = channel.e_per_step.text !== channel.e_per_adu.text;
  return (
    <dl className="flex flex-col gap-1">
      <Figure name="Gain" text={channel.e_per_adu.text} unit="e⁻/ADU" />
      {step && <Figure name="… for a native step of the ADC" text={channel.e_per_step.text} unit="e⁻" />}
      <Figure name="Read noise, rms over all pixels" text={channel.read_noise.text} unit="e⁻" />
      {channel.usual_read_noise.value !== null && (
        <Figure name="Read noise of the usual pixel" text={channel.usual_read_noise.text} unit="e⁻" />
      )}
      {channel.capacity.value !== null && (
        <Figure name="Saturation capacity" text={channel.capacity.text} unit="e⁻" />
      )}
      {channel.capacity.value !== null && (
        <Figure
          name={channel.full_well.value !== null ? "Full well" : "Full well: the ADC ends first"}
          text={channel.full_well.text}
          unit={channel.full_well.value !== null ? "e⁻" : ""}
        />
      )}
      {channel.stops.value !== null && <Figure name="Dynamic range" text={channel.stops.text} unit="stops" />}
      {channel.linear_limit.value !== null && (
        <Figure name="Linear to" text={channel.linear_limit.text} unit="ADU" />
      )}
    </dl>
  );
}

/** All gains side by side; a row is also the way to its curve. */
function ByGain({
  data,
  chosen,
  onChoose,
}: {
  data: Schemas["GainsOut"];
  chosen: number;
  onChoose: (gain: number) => void;
}) {
  return (
    <table className="w-full">
      <thead>
        <tr className="narrow border-b border-ink text-s text-ink2">
          <th className="py-1 text-left font-semibold">Setting</th>
          <th className="text-right font-semibold">e⁻/ADU</th>
          <th className="text-right font-semibold">Read noise</th>
          <th className="text-right font-semibold">Capacity</th>
          <th className="text-right font-semibold">Range</th>
        </tr>
      </thead>
      <tbody>
        {data.gains.map((gain) => {
          const channel = speaks(gain);
          return (
            <tr key={gain.gain} className={`border-b border-line ${gain.gain === chosen ? "bg-card" : ""}`}>
              <th scope="row" className="text-left font-normal">
                <button
                  type="button"
                  aria-pressed={gain.gain === chosen}
                  className={`w-full border-l-4 py-1 pl-2 text-left ${gain.gain === chosen ? "border-ink font-semibold" : "border-transparent"}`}
                  onClick={() => onChoose(gain.gain)}
                >
                  {gain.gain_text}
                </button>
              </th>
              <td className="num text-right">{channel?.e_per_adu.value?.toPrecision(3) ?? "–"}</td>
              <td className="num text-right">{channel?.read_noise.value?.toFixed(2) ?? "–"}</td>
              <td className="num text-right">
                {channel?.capacity.value ? Math.round(channel.capacity.value).toLocaleString("en") : "–"}
              </td>
              <td className="num text-right">{channel?.stops.value?.toFixed(1) ?? "–"}</td>
            </tr>
          );
        })}
      </tbody>
    </table>
  );
}

type OfGain = Schemas["GainGainOut"];

/** The transfer curve at a gain, and what changes with the setting. */
function Curves({
  data,
  gains,
  here,
  channel,
  setColour,
  onGain,
}: {
  data: Measured;
  gains: Schemas["GainsOut"];
  here: OfGain;
  channel: Channel | undefined;
  setColour: (name: string) => void;
  onGain: (gain: number) => void;
}) {
  const chart = useRef<SVGSVGElement>(null);
  const curves = useRef<SVGSVGElement>(null);
  const [under, setUnder] = useState<number | null>(null);
  const earlier = useMeasurement(under);
  const before = data.earlier.filter((m) => m.gains.includes(here.gain));
  const beneath = earlier.data?.gain?.gains
    .find((g) => g.gain === here.gain)
    ?.channels.find((c) => c.name === channel?.name);
  const base = baseName(data);
  return (
    <section className="border border-line bg-card px-5 pt-3 pb-2">
      <div className="flex items-center justify-between gap-4">
        <h2 className="text-l font-semibold">
          Photon transfer, {here.gain_text}
          {channel?.quick && ", a quick estimate"}
        </h2>
        <span className="flex items-center gap-3">
          {here.channels.length > 1 && (
            <Segments
              label="Channel"
              value={channel?.name ?? ""}
              options={here.channels.map((c) => ({ value: c.name, label: COLOUR[c.name] ?? c.name }))}
              onChange={setColour}
            />
          )}
          <SaveLinks chart={chart} name={`${base}-${here.gain}`} />
        </span>
      </div>
      {channel && channel.points.length > 0 ? (
        <TransferChart channel={channel} earlier={beneath ?? null} title={here.gain_text} chart={chart} />
      ) : (
        <p className="flex h-[400px] items-center justify-center text-ink2">
          {data.gate
            ? "It begins when the panel is before the telescope."
            : here.state === "going on"
              ? "Bias frames first, then the light, then pairs."
              : "No pairs at this gain."}
        </p>
      )}
      {gains.gains.filter((g) => speaks(g)?.e_per_adu.value).length > 1 && (
        <>
          <div className="flex items-baseline justify-between border-t border-line pt-2 pb-1">
            <h2 className="font-semibold">By gain setting</h2>
            <SaveLinks chart={curves} name={`${base}-by-gain`} />
          </div>
          <GainCurves data={gains} chosen={here.gain} onChoose={onGain} chart={curves} />
        </>
      )}
      {before.length > 0 && (
        <LayUnder
          label="lay under the curve"
          earlier={before}
          value={under}
          onChange={setUnder}
          className="pt-1 text-s text-ink2"
        />
      )}
    </section>
  );
}

const baseName = (data: Measured) => `gain-${data.camera.replaceAll(" ", "-").toLowerCase()}`;

/** Which gains to use, and why. */
function Suggestions({ gains }: { gains: Schemas["GainsOut"] }) {
  return (
    <>
      {gains.suggestions.length > 0 && (
        <section className="grid grid-cols-2 gap-5">
          {gains.suggestions.map((s) => (
            <div key={s.purpose}>
              <p className="text-ink2">{s.purpose}</p>
              <h2 className="text-xxl font-semibold first-letter:uppercase" style={{ fontStretch: "88%" }}>
                {s.gain_text}
              </h2>
              <p className="pt-0.5">{s.reason}</p>
              <p className="pt-1 text-s text-ink2">{s.runner_up}</p>
              {s.left_behind && <p className="pt-1 text-s text-ink2">{s.left_behind}</p>}
            </div>
          ))}
        </section>
      )}
      {(gains.switch_text || gains.unity_text) && (
        <p>
          {gains.switch_text} {gains.unity_text && `Unity gain: ${gains.unity_text}.`}
        </p>
      )}
    </>
  );
}

/** Keeps what was measured with the camera, and hands it out. */
function KeepValues({ data, gains }: { data: Measured; gains: OfGain[] }) {
  const accept = useChange((which: number[]) =>
    Promise.all(
      which.map((value) =>
        get(
          api.POST("/api/measurements/{measurement_id}/accept", {
            params: { path: { measurement_id: data.id } },
            body: { gain: value, offset: null },
          }),
        ),
      ),
    ),
  );
  const measured = gains.filter((g) => g.can_accept);
  const open = measured.filter((g) => g.accepted?.measurement_id !== data.id);
  if (measured.length === 0) return null;
  const whose = open.length === 1 ? open[0]?.gain_text : `${open.length} gains`;
  return (
    <>
      <div className="flex items-center gap-3">
        <Button
          look={open.length > 0 ? "accent" : "plain"}
          disabled={open.length === 0 || accept.isPending || data.job?.can_stop === true}
          onClick={() => accept.mutate(open.map((g) => g.gain))}
        >
          {open.length === 0 ? "Kept with the camera" : `Keep the values of ${whose}`}
        </Button>
        <SaveLinks
          name={baseName(data)}
          files={[
            { label: "By gain CSV", href: `/api/measurements/${data.id}/by-gain.csv` },
            { label: "Pairs CSV", href: `/api/measurements/${data.id}.csv` },
            { label: "JSON", href: `/api/measurements/${data.id}.json` },
          ]}
        />
      </div>
      {accept.error && <Trouble error={accept.error} />}
    </>
  );
}

/** The gains of a camera: the transfer curve, what changes with the setting, and which to use. */
export function GainView({
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
  const [colour, setColour] = useState<string | null>(null);
  const gains = data.gain?.gains ?? [];
  const live = gains.find((g) => g.state === "going on" && g.channels.length > 0);
  const here =
    gains.find((g) => g.gain === gain) ?? live ?? gains.find((g) => g.channels.length > 0) ?? gains[0];
  useStepKeys((by) => {
    const at = gains.findIndex((g) => g.gain === here?.gain);
    const next = stepped(gains, at, by);
    if (next) onGain(next.gain);
  });
  if (!data.gain || !here) return null;
  const channel = here.channels.find((c) => c.name === (colour ?? here.speaks)) ?? here.channels[0];
  return (
    <div className="grid grid-cols-[minmax(0,776px)_minmax(380px,1fr)] items-start gap-6 max-lg:grid-cols-1">
      <Curves
        data={data}
        gains={data.gain}
        here={here}
        channel={channel}
        setColour={setColour}
        onGain={onGain}
      />
      <div className="flex flex-col gap-4">
        <GoingOn data={data} next={gains.find((g) => g.next)?.next ?? ""} />
        <Suggestions gains={data.gain} />
        <KeepValues data={data} gains={gains} />
        {gains.length > 1 && <ByGain data={data.gain} chosen={here.gain} onChoose={onGain} />}
        {channel && channel.e_per_adu.value !== null && (
          <section>
            <ColumnHead
              note={[`${here.n_frames} frames`, here.offset_text, "± is 95 %"].filter(Boolean).join(", ")}
            >
              <span className="inline-block first-letter:uppercase">
                {here.gain_text}
                {here.channels.length > 1 && `, ${COLOUR[channel.name] ?? channel.name}`}
              </span>
            </ColumnHead>
            <div className="pt-1.5">
              <Figures channel={channel} />
            </div>
          </section>
        )}
        <Findings items={here.findings} notes={data.notes} />
        <CameraCard rows={bench.accepted} rig={rig} kind="gain" camera={data.camera} />
        <KeptFrames data={data} onForgotten={onForgotten} />
      </div>
    </div>
  );
}
