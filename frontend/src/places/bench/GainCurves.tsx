import { scaleLinear, scaleLog } from "d3-scale";
import type { RefObject } from "react";

import type { Schemas } from "../../api/client";
import { Label } from "../../parts/Label";
import { chartWidth, onAPhone, useChartWidth } from "../../parts/chartWidth";

type Gains = Schemas["GainsOut"];

const across = () => chartWidth(736);
const H = 158;
/** Charts that stand side by side. */
const abreast = () => (onAPhone() ? 2 : 4);
const each = () => across() / abreast();

/** The channel that speaks for a gain. */
export const speaks = (gain: Schemas["GainGainOut"]) => gain.channels.find((c) => c.name === gain.speaks);

const PANELS = [
  { name: "e⁻/ADU", of: (c: Schemas["ChannelOut"]) => c.e_per_adu.value, log: true },
  { name: "read noise, e⁻", of: (c: Schemas["ChannelOut"]) => c.read_noise.value, log: false },
  {
    name: "capacity, ke⁻",
    of: (c: Schemas["ChannelOut"]) => (c.capacity.value ?? 0) / 1000 || null,
    log: true,
  },
  { name: "range, stops", of: (c: Schemas["ChannelOut"]) => c.stops.value, log: false },
] as const;

/** Where the points of one small chart stand. */
function geometry(panel: (typeof PANELS)[number], left: number, gains: Schemas["GainGainOut"][]) {
  const settings = gains.map((g) => g.gain);
  const [low, high] = [Math.min(...settings), Math.max(...settings)];
  const x = scaleLinear()
    .domain([low, Math.max(high, low + 1)])
    .range([left + 56, left + each() - 14]);
  const values = gains.flatMap((g) => {
    const channel = speaks(g);
    const value = channel ? panel.of(channel) : null;
    return value === null ? [] : [{ gain: g.gain, value }];
  });
  const all = values.map((v) => v.value);
  const [least, most] = [Math.min(...all), Math.max(...all)];
  const y = panel.log
    ? scaleLog()
        .domain([least / 1.4, most * 1.4])
        .range([H - 34, 26])
    : scaleLinear()
        .domain([Math.min(least * 0.9, least - 0.4), most + 0.15 * (most - least) + 0.2])
        .range([H - 34, 26]);
  return { x, y, values, ends: [...new Set([low, high])], bounds: [...new Set([most, least])] };
}

const inFigures = (name: string, value: number) =>
  name === "range, stops"
    ? value.toFixed(1)
    : value >= 100
      ? Math.round(value)
      : Number(value.toPrecision(2));

/** The switch of conversion, and where one electron is one step of the converter. */
function Marks({
  data,
  index,
  left,
  x,
  y,
}: {
  data: Gains;
  index: number;
  left: number;
  x: Scale;
  y: Scale;
}) {
  const dashed = { stroke: "var(--ink2)", strokeDasharray: "2 4", fill: "none" };
  const at = data.switch ? x(((data.switch[0] ?? 0) + (data.switch[1] ?? 0)) / 2) : null;
  return (
    <>
      {at !== null && <path d={`M${at} 22V${H - 28}`} {...dashed} />}
      {at !== null && index === 1 && (
        <Label x={at + 5} y={34}>
          switch
        </Label>
      )}
      {index === 0 && data.unity_gain !== null && (
        <path d={`M${left + 48} ${y(1 / data.step)}H${x(data.unity_gain)}V${H - 28}`} {...dashed} />
      )}
    </>
  );
}

type Scale = (value: number) => number;

/** One figure against the gain. */
function SmallChart({
  data,
  gains,
  index,
  chosen,
  onChoose,
}: {
  data: Gains;
  gains: Schemas["GainGainOut"][];
  index: 0 | 1 | 2 | 3;
  chosen: number;
  onChoose: (gain: number) => void;
}) {
  const panel = PANELS[index];
  const left = (index % abreast()) * each();
  const { x, y, values, ends, bounds } = geometry(panel, left, gains);
  // Two that are nearly one are told once.
  const apart = (v: number, i: number) => i === 0 || Math.abs(y(v) - y(bounds[0] ?? v)) > 13;
  return (
    <g transform={`translate(0 ${H * Math.floor(index / abreast())})`}>
      <Label x={left + 4} y={13} strong weight="600">
        {panel.name}
      </Label>
      <path d={`M${left + 48} 22V${H - 28}H${left + each() - 8}`} stroke="var(--ink)" fill="none" />
      <Marks data={data} index={index} left={left} x={x} y={y} />
      {values.length > 1 && (
        <path
          d={`M${values.map((v) => `${x(v.gain)} ${y(v.value)}`).join("L")}`}
          stroke="var(--rule)"
          fill="none"
        />
      )}
      {values.map((v) => (
        <g key={v.gain} className="cursor-pointer" onClick={() => onChoose(v.gain)}>
          <circle cx={x(v.gain)} cy={y(v.value)} r="10" fill="transparent" />
          <circle
            cx={x(v.gain)}
            cy={y(v.value)}
            r="4"
            fill={v.gain === chosen ? "var(--ink)" : "var(--card)"}
            stroke="var(--ink)"
            strokeWidth="1.4"
          />
        </g>
      ))}
      {bounds.filter(apart).map((v) => (
        <Label key={v} x={left + 43} y={y(v) + 4} anchor="end" num>
          {inFigures(panel.name, v)}
        </Label>
      ))}
      {ends.map((v) => (
        <Label key={v} x={x(v)} y={H - 13} anchor="middle" num>
          {v}
        </Label>
      ))}
    </g>
  );
}

/** What changes with the gain setting: four small charts on one scale of gain. */
export function GainCurves({
  data,
  chosen,
  onChoose,
  chart,
}: {
  data: Gains;
  chosen: number;
  onChoose: (gain: number) => void;
  chart: RefObject<SVGSVGElement | null>;
}) {
  useChartWidth();
  const gains = data.gains.filter((g) => speaks(g)?.e_per_adu.value);
  return (
    <svg
      ref={chart}
      viewBox={`0 0 ${across()} ${(4 / abreast()) * H}`}
      className="block w-full"
      role="img"
      aria-label="Figures against gain"
    >
      {([0, 1, 2, 3] as const).map((index) => (
        <SmallChart key={index} data={data} gains={gains} index={index} chosen={chosen} onChoose={onChoose} />
      ))}
    </svg>
  );
}
