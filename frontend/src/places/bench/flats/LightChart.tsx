import { scaleLinear } from "d3-scale";
import type { RefObject } from "react";

import type { Schemas } from "../../../api/client";
import { Axes } from "../../../parts/Axes";
import { Label } from "../../../parts/Label";
import { chartWidth, onAPhone, useChartWidth } from "../../../parts/chartWidth";

type Chart = Schemas["FlatChartOut"];

const across = () => chartWidth(736);
const H = 540;
const L = 62;
const R = 14;
const TOP = 26;
const BASE = 446;
const FULL = new Intl.NumberFormat("en", { maximumFractionDigits: 0 });

/** Where a label at a shot is not covered by the line: to its right below, or to its left above. */
const beside = (x: number, right: number) => (x > right - 210 ? "end" : "start");

/** Where things stand in the chart. */
function geometry(data: Chart) {
  const brightness = data.axis === "brightness";
  const xs = data.shots.map((s) => s.x);
  const reach =
    data.answer_x ?? (data.line.length > 1 && !brightness ? lineAt(data.line, data.target) : null);
  const furthest = brightness
    ? data.high
    : reach
      ? Math.max(reach * 1.7, data.low * 1.5, ...xs.filter((v) => v < reach * 4))
      : Math.max(...xs, data.low * 4);
  const x = scaleLinear()
    .domain([0, furthest * 1.06])
    .range([L, across() - R]);
  const y = scaleLinear()
    .domain([0, data.white * 1.04])
    .range([BASE, TOP]);
  const right = x.domain()[1] ?? furthest;
  const inside = (v: number) => Math.min(Math.max(x(v), L), across() - R);
  return {
    brightness,
    x,
    y,
    /** The furthest that is drawn. */
    right,
    top: y(data.target + data.tolerance),
    bottom: y(data.target - data.tolerance),
    lowX: inside(data.low),
    highX: inside(data.high),
    path: data.line
      .filter(([px, py]) => (px ?? 0) <= right * 4 && (py ?? 0) <= data.white * 1.04)
      .map(([px, py]) => [x(px ?? 0), y(py ?? 0)] as const),
  };
}

type Geometry = ReturnType<typeof geometry>;

/** What is permitted, the band that is aimed at, and where the camera is full. */
function Ground({ data, g }: { data: Chart; g: Geometry }) {
  const { y, top, bottom, lowX, highX } = g;
  return (
    <>
      <rect x={L} y={TOP} width={lowX - L} height={BASE - TOP} fill="url(#not-permitted)" />
      <rect x={highX} y={TOP} width={across() - R - highX} height={BASE - TOP} fill="url(#not-permitted)" />
      <rect x={L} y={top} width={across() - R - L} height={bottom - top} fill="var(--band)" />
      <path d={`M${L} ${y(data.target)}H${across() - R}`} stroke="var(--rule)" />
      <path d={`M${L} ${y(data.white)}H${across() - R}`} stroke="var(--ink2)" strokeDasharray="2 4" />
      <Label x={L + 46} y={y(data.white) + 16} num>
        full, {FULL.format(data.white)} ADU
      </Label>
      <Label x={across() - R - 6} y={onAPhone() ? bottom + 16 : top - 6} anchor="end" num halo>
        target {FULL.format(data.target)} ± {FULL.format(data.tolerance)} ADU
      </Label>
      {lowX - L > 14 && (
        <text
          transform={`translate(${Math.min((L + lowX) / 2 + 4, L + 24)} ${BASE - 190}) rotate(-90)`}
          textAnchor="middle"
          fontSize="12"
          fill="var(--ink2)"
          {...halo}
        >
          {g.brightness ? data.low_reason : `shorter: ${data.low_reason}`}
        </text>
      )}
      {across() - R - highX > 70 && !g.brightness && (
        <Label x={(highX + across() - R) / 2} y={BASE - 60} anchor="middle" halo>
          longer: {data.high_reason}
        </Label>
      )}
    </>
  );
}

/** The line through the shots; its own words stand where no shot is. */
function ShotLine({ data, clip, g }: { data: Chart; clip: string; g: Geometry }) {
  const { path } = g;
  const [first, last] = [path[0], path.at(-1)];
  const slope = first && last ? (Math.atan2(last[1] - first[1], last[0] - first[0]) * 180) / Math.PI : 0;
  const shots = data.shots.map((s) => [g.x(s.x), g.y(s.y)]);
  const places = [0.7, 0.5, 0.82, 0.34]
    .map((share) => along(path, share, across() - R - 130))
    .filter((at) => at !== null);
  const labelAt = places.sort((a, b) => clearOf(b, shots) - clearOf(a, shots))[0] ?? null;
  return (
    <>
      {path.length > 1 && (
        <path
          d={`M${path.map((p) => p.join(" ")).join("L")}`}
          stroke="var(--ink)"
          strokeWidth="1.6"
          fill="none"
          clipPath={`url(#${clip})`}
        />
      )}
      {labelAt && !g.brightness && data.line_text && (
        <text
          transform={`translate(${labelAt[0]} ${labelAt[1]}) rotate(${slope})`}
          y="-9"
          textAnchor="middle"
          fontSize="12"
          className="num"
          fill="var(--ink2)"
          {...halo}
        >
          {data.line_text}
        </text>
      )}
    </>
  );
}

/** What stands below the axis: its unit, and how far the person permits it to go. */
function Below({ data, g }: { data: Chart; g: Geometry }) {
  const { lowX, highX } = g;
  const permitted = `${data.permitted}${!g.brightness && data.high > g.right ? " →" : ""}`;
  const [middle, room] = [(lowX + highX) / 2, 6.2 * permitted.length + 8];
  return (
    <>
      <Label x={L - 8} y={TOP - 12} anchor="end">
        ADU
      </Label>
      <Label x={across() - R} y={BASE + 40} anchor="end">
        {g.brightness ? `brightness, ${data.fixed}` : `exposure, s${data.fixed ? `, ${data.fixed}` : ""}`}
      </Label>
      {highX - lowX > 30 && (
        <g>
          <path
            d={`M${lowX} ${BASE + 62}v12M${highX} ${BASE + 62}v12M${lowX} ${BASE + 68}H${highX}`}
            stroke="var(--ink)"
            fill="none"
          />
          {/* The words stand in a gap of the line, as wide as they are. */}
          <rect x={middle - room / 2} y={BASE + 60} width={room} height="16" fill="var(--card)" />
          <Label x={middle} y={BASE + 72} anchor="middle" strong>
            {permitted}
          </Label>
        </g>
      )}
    </>
  );
}

/** The answer, marked on both axes. */
function Answer({ data, at, g }: { data: Chart; at: [number, number]; g: Geometry }) {
  const [x, y] = [g.x(at[0]), g.y(at[1])];
  return (
    <g>
      <path d={`M${x} ${y}V${BASE}M${L} ${y}H${x}`} stroke="var(--ink)" strokeWidth="2" />
      <rect x={x - 46} y={BASE} width="92" height="32" fill="var(--ink)" />
      <Label x={x} y={BASE + 23} anchor="middle" size="20" weight="500" num onInk>
        {data.answer_text}
      </Label>
      <rect x={L - 60} y={y - 10} width="60" height="20" fill="var(--ink)" />
      <Label x={L - 8} y={y + 4.5} anchor="end" size="13" num onInk>
        {FULL.format(at[1])}
      </Label>
      <Label x={Math.max(x - 14, L + 70)} y={g.top - 6} anchor="end" num weight="600" strong halo>
        kept, {data.kept}
      </Label>
    </g>
  );
}

/** A numbered test shot. */
function Shot({
  shot,
  white,
  chosen,
  onChoose,
  g,
}: {
  shot: Chart["shots"][number];
  white: number;
  chosen: boolean;
  onChoose: (number: number | null) => void;
  g: Geometry;
}) {
  const beyond = shot.x > g.right;
  const cx = beyond ? across() - R - 12 : g.x(shot.x);
  const cy = g.y(Math.min(shot.y, white));
  const anchor = beyond ? "end" : beside(cx, across() - R);
  const labelY = Math.min(cy + (anchor === "end" ? -10 : 16), BASE - 6);
  const onBand = labelY - 4 > g.top - 4 && labelY - 4 < g.bottom + 4;
  return (
    <g
      onMouseEnter={() => onChoose(shot.number)}
      onMouseLeave={() => onChoose(null)}
      opacity={shot.other ? 0.75 : 1}
    >
      <circle
        cx={cx}
        cy={cy}
        r="11"
        fill={chosen ? "var(--ink)" : "var(--card)"}
        stroke="var(--ink)"
        strokeWidth="1.6"
        strokeDasharray={shot.probe || shot.other ? "3 2" : undefined}
      />
      <text
        x={cx}
        y={cy + 4.5}
        textAnchor="middle"
        fontSize="13"
        className="num"
        fill={chosen ? "var(--paper)" : "var(--ink)"}
      >
        {shot.number}
      </text>
      {/* A phone has no room for it; below the chart stands what was touched. */}
      {!onAPhone() && (
        <Label
          x={anchor === "end" ? cx - 16 : cx + 16}
          y={labelY}
          anchor={anchor}
          num
          strong={onBand}
          halo={!onBand}
        >
          {shot.text}
          {shot.probe ? ", to measure only" : ""}
          {beyond ? " →" : ""}
        </Label>
      )}
    </g>
  );
}

/** Level against exposure or brightness: numbered shots, the line through them, the band, the window, the answer. */
export function LightChart({
  data,
  chosen,
  onChoose,
  chart,
}: {
  data: Chart;
  chosen: number | null;
  onChoose: (number: number | null) => void;
  chart: RefObject<SVGSVGElement | null>;
}) {
  useChartWidth();
  const g = geometry(data);
  const clip = `light-${data.key.filter_code}`;
  const answer: [number, number] | null =
    data.answer_x !== null && data.answer_y !== null ? [data.answer_x, data.answer_y] : null;
  return (
    <svg
      ref={chart}
      viewBox={`0 0 ${across()} ${H}`}
      className="block w-full"
      role="img"
      aria-label={`${data.title}. Level against ${data.axis}, ${data.shots.length} test shots`}
    >
      <defs>
        <pattern
          id="not-permitted"
          width="7"
          height="7"
          patternUnits="userSpaceOnUse"
          patternTransform="rotate(45)"
        >
          <rect width="1.6" height="7" fill="var(--board)" />
        </pattern>
        <clipPath id={clip}>
          <rect x={L} y={TOP} width={across() - R - L} height={BASE - TOP} />
        </clipPath>
      </defs>
      <Ground data={data} g={g} />
      <ShotLine data={data} clip={clip} g={g} />
      <Axes
        x={g.x}
        y={g.y}
        left={L}
        right={across() - R}
        top={TOP - 6}
        base={BASE}
        xTicks={10}
        yTicks={6}
        covered={answer && { x: g.x(answer[0]), y: g.y(answer[1]) }}
      />
      <Below data={data} g={g} />
      {answer && <Answer data={data} at={answer} g={g} />}
      {data.shots.map((shot) => (
        <Shot
          key={shot.number}
          shot={shot}
          white={data.white}
          chosen={chosen === shot.number}
          onChoose={onChoose}
          g={g}
        />
      ))}
    </svg>
  );
}

const halo = { paintOrder: "stroke", stroke: "var(--card)", strokeWidth: 4 } as const;

/** How far a place is from the nearest of others; far enough is far enough. */
function clearOf(at: [number, number], others: number[][]): number {
  const away = others.map(([ox, oy]) => Math.hypot(at[0] - (ox ?? 0), at[1] - (oy ?? 0)));
  return Math.min(...away, 130);
}

/** Where the line reaches a level. */
function lineAt(line: number[][], level: number): number | null {
  const [a, b] = [line[0], line.at(-1)];
  if (!a || !b) return null;
  const [x0 = 0, y0 = 0] = a;
  const [x1 = 0, y1 = 0] = b;
  return y1 > y0 ? x0 + ((level - y0) / (y1 - y0)) * (x1 - x0) : null;
}

/** A point a share of the way along a straight path, no further right than that. */
function along(path: (readonly [number, number])[], share: number, most: number): [number, number] | null {
  const [a, b] = [path[0], path.at(-1)];
  if (!a || !b || b[0] <= a[0]) return null;
  const t = Math.min(share, (most - a[0]) / (b[0] - a[0]));
  return t > 0.1 ? [a[0] + t * (b[0] - a[0]), a[1] + t * (b[1] - a[1])] : null;
}
