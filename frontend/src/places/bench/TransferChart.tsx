import { scaleLinear, scaleLog } from "d3-scale";
import type { RefObject } from "react";

import type { Schemas } from "../../api/client";
import { Label } from "../../parts/Label";
import { chartWidth, onAPhone, useChartWidth } from "../../parts/chartWidth";

type Channel = Schemas["ChannelOut"];

const across = () => chartWidth(736);
/** On a phone two lines stand below one another that stand side by side at a desk. */
const secondLine = () => (onAPhone() ? 16 : 0);
const height = () => 412 + secondLine();
const L = 62;
const R = 96;
const TOP = 18;
const BASE = 268;
const STRIP_TOP = 314;
const STRIP = 378;

const short = (value: number) =>
  value >= 1e6 ? `${value / 1e6}\u2009M` : value >= 1e3 ? `${value / 1e3}\u2009k` : String(value);
const decades = (from: number, to: number) =>
  Array.from(
    { length: Math.max(0, Math.floor(Math.log10(to)) - Math.ceil(Math.log10(from)) + 1) },
    (_, i) => 10 ** (Math.ceil(Math.log10(from)) + i),
  );

/** Where things stand in the chart. */
function geometry(channel: Channel) {
  const points = channel.points.filter((p) => p.signal > 0.5 && p.variance > 0.05);
  const signals = points.map((p) => p.signal);
  const least = Math.max(Math.min(...signals, 100) / 1.6, 1);
  const most = Math.max(...signals, 1000) * 1.5;
  const variances = points.map((p) => p.variance);
  const dark = channel.dark_variance ?? 1;
  // The converter's steps are drawn where they matter, and only told of where they lie far below.
  const deep = channel.quantisation < dark / 200;
  const floor = Math.max(Math.min(...variances, dark, deep ? dark : channel.quantisation) / 3, 0.02);
  const highest = Math.max(...variances, dark) * 2;
  return {
    points,
    least,
    most,
    dark,
    deep,
    floor,
    highest,
    x: scaleLog()
      .domain([least, most])
      .range([L, across() - R]),
    y: scaleLog().domain([floor, highest]).range([BASE, TOP]),
    off: scaleLinear().domain([-3, 3]).range([STRIP, STRIP_TOP]).clamp(true),
  };
}

type Geometry = ReturnType<typeof geometry>;

/** Lines and numbers of the decades. */
function Decades({ g }: { g: Geometry }) {
  const { x, y } = g;
  return (
    <>
      <Label x={L - 8} y={TOP - 5} anchor="end">
        ADU²
      </Label>
      {decades(g.floor, g.highest).map((tick) => (
        <g key={tick}>
          <path d={`M${L} ${y(tick)}H${across() - R}`} stroke="var(--line)" strokeOpacity="0.6" />
          <Label x={L - 9} y={y(tick) + 4} anchor="end" num>
            {short(tick)}
          </Label>
        </g>
      ))}
      {decades(g.least, g.most).map((tick) => (
        <g key={tick}>
          <path d={`M${x(tick)} ${TOP}V${BASE}`} stroke="var(--line)" strokeOpacity="0.6" />
          <Label x={x(tick)} y={BASE + 17} anchor="middle" num>
            {short(tick)}
          </Label>
        </g>
      ))}
      <Label x={across() - R} y={BASE + 34} anchor="end" halo>
        signal above the pedestal, ADU
      </Label>
    </>
  );
}

/** What the noise cannot fall below, and where the pixel is full. */
function Bounds({ channel, g }: { channel: Channel; g: Geometry }) {
  const { x, y, dark, deep } = g;
  const full = channel.saturation_signal === null ? null : x(channel.saturation_signal);
  return (
    <>
      {channel.dark_variance !== null && (
        <>
          <path d={`M${L} ${y(dark)}H${across() - R}`} stroke="var(--ink2)" strokeDasharray="6 4" />
          <Label x={across() - R + 6} y={y(dark) + 4}>
            read noise²
          </Label>
        </>
      )}
      {deep ? (
        <Label x={L + 8} y={BASE - 10}>
          the ADC’s steps: {channel.quantisation.toPrecision(2)} ADU², far below
        </Label>
      ) : (
        <>
          <path
            d={`M${L} ${y(channel.quantisation)}H${across() - R}`}
            stroke="var(--ink2)"
            strokeDasharray="1 4"
          />
          <Label x={across() - R + 6} y={y(channel.quantisation) + 4}>
            the ADC’s steps
          </Label>
        </>
      )}
      {full !== null && (
        <>
          <path
            d={`M${full} ${TOP}V${BASE}M${full} ${STRIP_TOP}V${STRIP}`}
            stroke="var(--ink2)"
            strokeDasharray="2 4"
          />
          <Label
            x={full + (secondLine() ? 7 : -6)}
            y={BASE - (secondLine() ? 120 : 10)}
            anchor={secondLine() ? "start" : "end"}
            strong
            halo
          >
            saturation
          </Label>
        </>
      )}
    </>
  );
}

/** The slope that was fitted: to where it was fitted, and beyond. */
function Slope({ channel, k, g }: { channel: Channel; k: number; g: Geometry }) {
  const { x, y, least, most, floor } = g;
  const fitEnd = channel.saturation_signal ? channel.saturation_signal * 0.7 : most;
  const middle = Math.sqrt(least * fitEnd);
  const said = `${channel.e_per_adu.text} e⁻/ADU`;
  // Above the line where there is room, else below it and before it ends.
  const above = x(middle) - 10 - said.length * 8 > L;
  const below = x(fitEnd) - 8 - said.length * 8;
  return (
    <>
      <path
        d={`M${x(least)} ${y(Math.max(k * least, floor))}L${x(fitEnd)} ${y(k * fitEnd)}`}
        stroke="var(--ink)"
        strokeWidth="1.6"
      />
      <path
        d={`M${x(fitEnd)} ${y(k * fitEnd)}L${x(most)} ${y(Math.min(k * most, g.highest))}`}
        stroke="var(--ink2)"
        strokeDasharray="4 4"
      />
      <Label
        x={above ? x(middle) - 10 : below}
        y={above ? y(k * middle) - 14 : y(k * x.invert(below)) + 22}
        anchor={above ? "end" : "start"}
        size="13"
        num
        strong
        weight="500"
        halo
      >
        {said}
      </Label>
    </>
  );
}

/** How straight the level follows the time. */
function Straightness({ channel, g }: { channel: Channel; g: Geometry }) {
  const { x, off } = g;
  const within = channel.straight_within_percent;
  return (
    <>
      <rect
        x={L}
        y={off(within)}
        width={across() - R - L}
        height={off(-within) - off(within)}
        fill="var(--board)"
      />
      <path d={`M${L} ${off(0)}H${across() - R}`} stroke="var(--rule)" />
      <path d={`M${L} ${STRIP_TOP}V${STRIP}`} stroke="var(--ink)" />
      {[-within, within].map((tick) => (
        <Label key={tick} x={L - 9} y={off(tick) + 4} anchor="end" num>
          {`${tick > 0 ? "+" : "−"}${within} %`}
        </Label>
      ))}
      {g.points.map((p, i) =>
        p.off_line_percent === null ? null : p.off_line_percent < -3 ? (
          <path key={i} d={`M${x(p.signal) - 4} ${STRIP - 6}l4 7l4 -7z`} fill="var(--ink2)" />
        ) : (
          <circle
            key={i}
            cx={x(p.signal)}
            cy={off(p.off_line_percent)}
            r="3"
            fill={Math.abs(p.off_line_percent) <= within ? "var(--ink)" : "var(--card)"}
            stroke="var(--ink)"
          />
        ),
      )}
      {channel.linear_signal !== null && (
        <>
          <path
            d={`M${x(channel.linear_signal)} ${STRIP_TOP - 4}V${STRIP + 4}`}
            stroke="var(--ink)"
            strokeWidth="2"
          />
          <Label x={x(channel.linear_signal)} y={STRIP + 20 + secondLine()} anchor="end" strong>
            linear to {channel.linear_limit.text} ADU
          </Label>
        </>
      )}
      <Label x={L} y={STRIP + 20}>
        {channel.points.some((p) => p.off_line_percent !== null)
          ? "level off the line of time, 5 to 70 %"
          : "too few exposures of one light for a line of time"}
      </Label>
    </>
  );
}

/** Variance against signal, both as logarithms; and beneath it how far the level strays from the line of time. */
export function TransferChart({
  channel,
  earlier,
  title,
  chart,
}: {
  channel: Channel;
  earlier: Channel | null;
  title: string;
  chart: RefObject<SVGSVGElement | null>;
}) {
  useChartWidth();
  const g = geometry(channel);
  const { x, y } = g;
  const under = earlier?.points.filter((p) => p.signal > g.least && p.variance > g.floor) ?? [];
  return (
    <svg
      ref={chart}
      viewBox={`0 0 ${across()} ${height()}`}
      className="block w-full"
      role="img"
      aria-label={`Photon transfer ${title}: variance against signal, ${g.points.length} pairs`}
    >
      <Decades g={g} />
      <Bounds channel={channel} g={g} />
      {channel.slope !== null && <Slope channel={channel} k={channel.slope} g={g} />}
      {under.map((p, i) => (
        <path
          key={i}
          d={`M${x(p.signal) - 4} ${y(p.variance)}h8M${x(p.signal)} ${y(p.variance) - 4}v8`}
          stroke="var(--ink2)"
        />
      ))}
      {g.points.map((p, i) => (
        <circle
          key={i}
          cx={x(p.signal)}
          cy={y(p.variance)}
          r="4"
          fill={p.used ? "var(--ink)" : "var(--card)"}
          stroke="var(--ink)"
          strokeWidth="1.4"
        >
          <title>
            {`${p.exposure_s} s, ${p.source}: ${Math.round(p.level)} ADU, variance ${Math.round(p.variance)} ADU²`}
          </title>
        </circle>
      ))}
      <path d={`M${L} ${TOP}V${BASE}H${across() - R}`} stroke="var(--ink)" fill="none" />
      <Straightness channel={channel} g={g} />
    </svg>
  );
}
