import { scaleLinear } from "d3-scale";
import type { RefObject } from "react";

import type { Schemas } from "../../../api/client";
import { Axes } from "../../../parts/Axes";

type Chart = Schemas["FlatChartOut"];

const W = 736;
const H = 540;
const L = 62;
const R = 14;
const TOP = 26;
const BASE = 446;
const FULL = new Intl.NumberFormat("en", { maximumFractionDigits: 0 });

/** Where a label at a shot is not covered by the line: to its right below, or to its left above. */
const beside = (x: number, right: number) => (x > right - 210 ? "end" : "start");

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
    .range([L, W - R]);
  const y = scaleLinear()
    .domain([0, data.white * 1.04])
    .range([BASE, TOP]);
  const right = x.domain()[1] ?? furthest;
  const inside = (v: number) => Math.min(Math.max(x(v), L), W - R);
  const top = y(data.target + data.tolerance);
  const bottom = y(data.target - data.tolerance);
  const path = data.line
    .filter(([px, py]) => (px ?? 0) <= right * 4 && (py ?? 0) <= data.white * 1.04)
    .map(([px, py]) => [x(px ?? 0), y(py ?? 0)] as const);
  const clip = `light-${data.key.filter_code}`;
  const lowX = inside(data.low);
  const highX = inside(data.high);
  const first = path[0];
  const last = path.at(-1);
  const slope = first && last ? (Math.atan2(last[1] - first[1], last[0] - first[0]) * 180) / Math.PI : 0;
  // The line's own words stand where no shot is.
  const labelAt =
    [0.7, 0.5, 0.82, 0.34]
      .map((share) => along(path, share, W - R - 130))
      .filter((at) => at !== null)
      .sort(
        (a, b) =>
          clearOf(
            b,
            data.shots.map((s) => [x(s.x), y(s.y)]),
          ) -
          clearOf(
            a,
            data.shots.map((s) => [x(s.x), y(s.y)]),
          ),
      )[0] ?? null;
  return (
    <svg
      ref={chart}
      viewBox={`0 0 ${W} ${H}`}
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
          <rect x={L} y={TOP} width={W - R - L} height={BASE - TOP} />
        </clipPath>
      </defs>
      <rect x={L} y={TOP} width={lowX - L} height={BASE - TOP} fill="url(#not-permitted)" />
      <rect x={highX} y={TOP} width={W - R - highX} height={BASE - TOP} fill="url(#not-permitted)" />
      <rect x={L} y={top} width={W - R - L} height={bottom - top} fill="var(--band)" />
      <path d={`M${L} ${y(data.target)}H${W - R}`} stroke="var(--rule)" />
      <path d={`M${L} ${y(data.white)}H${W - R}`} stroke="var(--ink2)" strokeDasharray="2 4" />
      <text x={L + 46} y={y(data.white) + 16} fontSize="12" className="num" fill="var(--ink2)">
        full, {FULL.format(data.white)} ADU
      </text>
      <text
        x={W - R - 6}
        y={top - 6}
        textAnchor="end"
        fontSize="12"
        className="num"
        fill="var(--ink2)"
        {...halo}
      >
        target {FULL.format(data.target)} ± {FULL.format(data.tolerance)} ADU
      </text>
      {lowX - L > 14 && (
        <text
          transform={`translate(${Math.min((L + lowX) / 2 + 4, L + 24)} ${BASE - 190}) rotate(-90)`}
          textAnchor="middle"
          fontSize="12"
          fill="var(--ink2)"
          {...halo}
        >
          {brightness ? data.low_reason : `shorter: ${data.low_reason}`}
        </text>
      )}
      {W - R - highX > 70 && !brightness && (
        <text
          x={(highX + W - R) / 2}
          y={BASE - 60}
          textAnchor="middle"
          fontSize="12"
          fill="var(--ink2)"
          {...halo}
        >
          longer: {data.high_reason}
        </text>
      )}
      {path.length > 1 && (
        <path
          d={`M${path.map((p) => p.join(" ")).join("L")}`}
          stroke="var(--ink)"
          strokeWidth="1.6"
          fill="none"
          clipPath={`url(#${clip})`}
        />
      )}
      {labelAt && !brightness && data.line_text && (
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
      <Axes
        x={x}
        y={y}
        left={L}
        right={W - R}
        top={TOP - 6}
        base={BASE}
        xTicks={10}
        yTicks={6}
        covered={
          data.answer_x !== null && data.answer_y !== null
            ? { x: x(data.answer_x), y: y(data.answer_y) }
            : null
        }
      />
      <text x={L - 8} y={TOP - 12} textAnchor="end" fontSize="12" fill="var(--ink2)">
        ADU
      </text>
      <text x={W - R} y={BASE + 40} textAnchor="end" fontSize="12" fill="var(--ink2)">
        {brightness ? `brightness, ${data.fixed}` : `exposure, s${data.fixed ? `, ${data.fixed}` : ""}`}
      </text>
      {highX - lowX > 30 && (
        <g>
          <path
            d={`M${lowX} ${BASE + 62}v12M${highX} ${BASE + 62}v12M${lowX} ${BASE + 68}H${highX}`}
            stroke="var(--ink)"
            fill="none"
          />
          <text
            x={(lowX + highX) / 2}
            y={BASE + 72}
            textAnchor="middle"
            fontSize="12"
            fill="var(--ink)"
            paintOrder="stroke"
            stroke="var(--card)"
            strokeWidth="14"
          >
            {`${data.permitted}${!brightness && data.high > right ? " →" : ""}`}
          </text>
        </g>
      )}
      {data.answer_x !== null && data.answer_y !== null && (
        <g>
          <path
            d={`M${x(data.answer_x)} ${y(data.answer_y)}V${BASE}M${L} ${y(data.answer_y)}H${x(data.answer_x)}`}
            stroke="var(--ink)"
            strokeWidth="2"
          />
          <rect x={x(data.answer_x) - 46} y={BASE} width="92" height="32" fill="var(--ink)" />
          <text
            x={x(data.answer_x)}
            y={BASE + 23}
            textAnchor="middle"
            fontSize="20"
            fontWeight="500"
            className="num"
            fill="var(--paper)"
          >
            {data.answer_text}
          </text>
          <rect x={L - 60} y={y(data.answer_y) - 10} width="60" height="20" fill="var(--ink)" />
          <text
            x={L - 8}
            y={y(data.answer_y) + 4.5}
            textAnchor="end"
            fontSize="13"
            className="num"
            fill="var(--paper)"
          >
            {FULL.format(data.answer_y)}
          </text>
          <text
            x={Math.max(x(data.answer_x) - 14, L + 70)}
            y={top - 6}
            textAnchor="end"
            fontSize="12"
            className="num"
            fontWeight="600"
            fill="var(--ink)"
            {...halo}
          >
            kept, {data.kept}
          </text>
        </g>
      )}
      {data.shots.map((shot) => {
        const beyond = shot.x > right;
        const cx = beyond ? W - R - 12 : x(shot.x);
        const cy = y(Math.min(shot.y, data.white));
        const anchor = beyond ? "end" : beside(cx, W - R);
        const strong = chosen === shot.number;
        const labelY = Math.min(cy + (anchor === "end" ? -10 : 16), BASE - 6);
        const onBand = labelY - 4 > top - 4 && labelY - 4 < bottom + 4;
        return (
          <g
            key={shot.number}
            onMouseEnter={() => onChoose(shot.number)}
            onMouseLeave={() => onChoose(null)}
            opacity={shot.other ? 0.75 : 1}
          >
            <circle
              cx={cx}
              cy={cy}
              r="11"
              fill={strong ? "var(--ink)" : "var(--card)"}
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
              fill={strong ? "var(--paper)" : "var(--ink)"}
            >
              {shot.number}
            </text>
            <text
              x={anchor === "end" ? cx - 16 : cx + 16}
              y={labelY}
              textAnchor={anchor}
              fontSize="12"
              className="num"
              fill={onBand ? "var(--ink)" : "var(--ink2)"}
              {...(onBand ? {} : halo)}
            >
              {shot.text}
              {shot.probe ? ", to measure only" : ""}
              {beyond ? " →" : ""}
            </text>
          </g>
        );
      })}
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
