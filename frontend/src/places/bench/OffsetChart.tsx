import { scaleLinear, scaleLog } from "d3-scale";
import type { RefObject } from "react";

import type { Schemas } from "../../api/client";

type Data = Schemas["OffsetGainOut"];
type Rung = Schemas["RungOut"];

const W = 736;
const H = 560;
const L = 62;
const R = 124;
const TOP = 22;
const BASE = 400;
const BARS_TOP = 452;
const BARS = 520;

const adu = new Intl.NumberFormat("en", { maximumFractionDigits: 0 });

/** Labels at the right, pushed apart where they would run into one another. */
function apart(labels: { y: number; text: string; strong?: boolean }[], gap: number) {
  const sorted = [...labels].sort((a, b) => a.y - b.y);
  for (let i = 1; i < sorted.length; i++) {
    const above = sorted[i - 1];
    const here = sorted[i];
    if (above && here) here.y = Math.max(here.y, above.y + gap);
  }
  return sorted;
}

/** The furthest offset that is drawn: a rung about twice the answer, so that what decides is seen large. */
export function furthest(rungs: Rung[], answer: number | null): number {
  const last = rungs.at(-1)?.offset ?? 1;
  if (answer === null) return last;
  const enough = rungs.find((r) => r.offset >= Math.max(answer * 1.9, answer + 4));
  return enough?.offset ?? last;
}

/** A dot for each frame's darkest good pixel, side by side in the column of its offset. */
function Dots({ rung, x, y, room }: { rung: Rung; x: number; y: (v: number) => number; room: number }) {
  const wide = Math.min(room, 44);
  const count = rung.minima.length;
  return (
    <g>
      {rung.minima.map((value, i) => (
        <circle
          key={i}
          cx={x + (count > 1 ? ((i / (count - 1)) * 2 - 1) * (wide / 2 - 3) : 0)}
          cy={y(value)}
          r={room < 18 ? 1.8 : 2.6}
          fill="var(--card)"
          stroke="var(--ink)"
          strokeWidth="1.2"
        />
      ))}
    </g>
  );
}

/** Floor of the frames against offset, and the pixels at zero beneath it. */
export function OffsetChart({
  data,
  earlier,
  chosen,
  onChoose,
  chart,
}: {
  data: Data;
  earlier: Data | null;
  chosen: number | null;
  onChoose: (offset: number) => void;
  chart: RefObject<SVGSVGElement | null>;
}) {
  const answer = data.answer?.offset ?? null;
  const right = furthest(data.rungs, answer);
  const low = Math.min(0, data.rungs[0]?.offset ?? 0);
  const shown = data.rungs.filter((r) => r.offset <= right);
  const beyond = data.rungs.filter((r) => r.offset > right);
  const x = scaleLinear()
    .domain([low, Math.max(right, low + 1)])
    .range([L + 32, W - R - 18]);
  const top = Math.max(...shown.map((r) => r.mean), data.margin * 2, 50) * 1.08;
  const y = scaleLinear().domain([0, top]).range([BASE, TOP]);
  const line = (offset: number) => (data.line ? data.line.at_zero + (data.line.slope ?? 0) * offset : null);
  const slope = data.line?.slope ?? null;
  const atZero = data.line?.floor_at_zero ?? null;
  const floor = (offset: number) => (atZero === null ? null : atZero + (slope ?? 0) * offset);
  const floorFrom = Math.max(low, data.line?.floor_from ?? low);
  const most = Math.max(10, ...shown.map((r) => r.zeros));
  const bars = scaleLog().domain([0.5, most]).range([BARS, BARS_TOP]);
  const room = (i: number) => {
    const here = shown[i]?.offset ?? 0;
    const gaps = [shown[i - 1], shown[i + 1]].flatMap((n) => (n ? [Math.abs(n.offset - here)] : []));
    return Math.max((x(low + Math.min(...gaps, right - low)) - x(low)) * 0.9, 8);
  };
  // The answer's number is written large; ticks that it would cover give way.
  const marked = chosen ?? answer;
  const ticks = shown.reduce<Rung[]>((kept, rung) => {
    const at = x(rung.offset);
    const last = kept.at(-1);
    const clear = (marked === null || Math.abs(at - x(marked)) > 34) && (!last || at - x(last.offset) >= 22);
    return clear ? [...kept, rung] : kept;
  }, []);
  const end = shown.at(-1);
  const labels = end
    ? apart(
        [
          { y: y(end.mean), text: "mean", strong: true },
          { y: y(end.darkest_percent), text: "darkest 1 %" },
          { y: y(end.darkest_permyriad), text: "darkest 0.01 %" },
          {
            y: y(end.minima.reduce((a, b) => a + b, 0) / Math.max(end.minima.length, 1)) + 4,
            text: "darkest pixel",
            strong: true,
          },
          ...(floor(right) !== null && (floor(right) ?? 0) > 0
            ? [{ y: y(floor(right) ?? 0) + 4, text: "floor, 99 in 100" }]
            : []),
          ...(earlier?.line?.slope && earlier.depth !== null
            ? [
                {
                  y: y(earlier.line.at_zero + earlier.line.slope * right + earlier.depth) + 4,
                  text: "floor measured earlier",
                },
              ]
            : []),
        ],
        16,
      )
    : [];
  const column = marked === null ? null : x(marked);
  const effect = data.effects.find((e) => e.offset === marked) ?? data.answer;
  return (
    <svg
      ref={chart}
      viewBox={`0 0 ${W} ${H}`}
      className="block w-full"
      role="img"
      aria-label={`Levels of bias frames against offset at ${data.gain_text}, ${data.n_frames} frames`}
      onClick={(event) => {
        const box = event.currentTarget.getBoundingClientRect();
        const at = x.invert(((event.clientX - box.left) / box.width) * W);
        const near = data.effects.reduce<number | null>(
          (best, e) => (best === null || Math.abs(e.offset - at) < Math.abs(best - at) ? e.offset : best),
          null,
        );
        if (near !== null) onChoose(near);
      }}
    >
      <defs>
        <pattern id="lost" width="7" height="7" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
          <rect width="1.6" height="7" fill="var(--ink)" />
        </pattern>
      </defs>
      <text x={L - 8} y={TOP - 8} textAnchor="end" fontSize="12" fill="var(--ink2)">
        ADU
      </text>
      {shown.length > 1 && slope !== null && (
        <path
          d={`M${x(low)} ${y(Math.max(line(low) ?? 0, 0))}L${x(right)} ${y(line(right) ?? 0)}V${y(Math.max(floor(right) ?? 0, 0))}L${x(floorFrom)} ${y(Math.max(floor(floorFrom) ?? 0, 0))}H${x(low)}Z`}
          fill="var(--board)"
          fillOpacity="0.55"
        />
      )}
      {earlier?.line?.slope && earlier.depth !== null && (
        <g stroke="var(--ink2)" strokeDasharray="2 4" fill="none">
          <path
            d={`M${x(low)} ${y(Math.max(earlier.line.at_zero + earlier.line.slope * low, 0))}L${x(right)} ${y(earlier.line.at_zero + earlier.line.slope * right)}`}
          />
          <path
            d={`M${x(Math.max(low, (-earlier.depth - earlier.line.at_zero) / earlier.line.slope))} ${y(0)}L${x(right)} ${y(Math.max(earlier.line.at_zero + earlier.line.slope * right + earlier.depth, 0))}`}
          />
          {earlier.answer && earlier.answer.offset <= right && (
            <path d={`M${x(earlier.answer.offset)} ${BASE + 8}v12`} strokeWidth="3" strokeDasharray="none" />
          )}
        </g>
      )}
      {slope !== null && (
        <>
          <path
            d={`M${x(low)} ${y(Math.max(line(low) ?? 0, 0))}L${x(right)} ${y(line(right) ?? 0)}`}
            stroke="var(--ink)"
            strokeWidth="1.4"
          />
          {data.depth !== null && (floor(right) ?? 0) > 0 && (
            <path
              d={`M${x(floorFrom)} ${y(Math.max(floor(floorFrom) ?? 0, 0))}L${x(right)} ${y(floor(right) ?? 0)}`}
              stroke="var(--ink)"
              strokeDasharray="5 3"
            />
          )}
        </>
      )}
      {data.depth !== null && (
        <>
          <path d={`M${L} ${y(data.margin)}H${W - R}`} stroke="var(--ink2)" strokeDasharray="6 4" />
          <text
            x={L + 6}
            y={y(data.margin) - 5}
            fontSize="12"
            fill="var(--ink2)"
            paintOrder="stroke"
            stroke="var(--card)"
            strokeWidth="4"
          >
            {adu.format(data.margin)} ADU asked for
          </text>
        </>
      )}
      {column !== null && (
        <rect
          x={column - 22}
          y={TOP - 6}
          width="44"
          height={BARS + 26 - TOP}
          fill="none"
          stroke="var(--ink)"
          strokeWidth="1.5"
        />
      )}
      {shown.map((rung, i) => {
        const half = Math.min(room(i) / 2, 14);
        return (
          <g key={rung.offset}>
            <path
              d={`M${x(rung.offset)} ${y(rung.mean)}V${y(Math.min(...rung.minima, rung.darkest_permyriad))}`}
              stroke="var(--rule)"
            />
            <path
              d={`M${x(rung.offset) - half} ${y(rung.mean)}h${2 * half}`}
              stroke="var(--ink)"
              strokeWidth="3.4"
            />
            <path
              d={`M${x(rung.offset) - half * 0.75} ${y(rung.darkest_percent)}h${1.5 * half}M${x(rung.offset) - half * 0.75} ${y(rung.darkest_permyriad)}h${1.5 * half}`}
              stroke="var(--ink)"
              strokeWidth="1.4"
            />
            {data.dead[0] && room(i) > 40 && (
              <path
                d={`M${x(rung.offset) + half + 6} ${y(Math.max(data.dead[0].level, 0)) - 8}l6 6m0 -6l-6 6`}
                stroke="var(--ink)"
              />
            )}
            <Dots rung={rung} x={x(rung.offset)} y={y} room={room(i)} />
          </g>
        );
      })}
      <path d={`M${L} ${TOP}V${BASE}`} stroke="var(--ink)" />
      <path d={`M${L} ${BASE}H${W - R}`} stroke="var(--ink)" strokeWidth="2.6" />
      <rect x={L} y={BASE + 1} width={W - R - L} height="8" fill="url(#lost)" />
      {y.ticks(6).map((tick) => (
        <g key={tick}>
          <path d={`M${L - 5} ${y(tick)}h5`} stroke="var(--ink)" />
          <text x={L - 9} y={y(tick) + 4} textAnchor="end" fontSize="12" className="num" fill="var(--ink2)">
            {adu.format(tick)}
          </text>
        </g>
      ))}
      {ticks.map((rung) => (
        <text
          key={rung.offset}
          x={x(rung.offset)}
          y={BASE + 32}
          textAnchor="middle"
          fontSize="13"
          className="num"
          fill="var(--ink)"
        >
          {rung.offset}
        </text>
      ))}
      {labels.map((label) => (
        <text
          key={label.text}
          x={W - R + 8}
          y={label.y + 4}
          fontSize="12"
          fill={label.strong ? "var(--ink)" : "var(--ink2)"}
        >
          {label.text}
        </text>
      ))}
      <text x={W - R + 8} y={BASE + 12} fontSize="12" fill="var(--ink)">
        zero: cut off
      </text>
      <text x={W - R + 8} y={BASE + 32} fontSize="12" fill="var(--ink2)">
        offset setting
      </text>
      {data.dead.length > 0 && (
        <text x={W - R + 8} y={BASE - 4} fontSize="12" fill="var(--ink2)">
          × dead pixel{data.dead.length > 1 ? "s" : ""}
        </text>
      )}
      {beyond.length > 0 && (
        <text x={W - R + 8} y={TOP + 2} fontSize="12" fill="var(--ink2)">
          also {beyond.map((r) => r.offset).join(", ")} →
        </text>
      )}
      {/* Pixels at zero, on a log scale: from millions through thousands to none. */}
      <path d={`M${L} ${BARS}H${W - R}`} stroke="var(--rule)" />
      {shown.map((rung, i) => {
        const narrow = room(i) < 30 && rung.zeros === 0;
        return (
          <g key={rung.offset}>
            {rung.zeros > 0 && (
              <rect
                x={x(rung.offset) - Math.min(room(i) / 2, 9)}
                y={bars(Math.max(rung.zeros, 0.6))}
                width={Math.min(room(i), 18)}
                height={BARS - bars(Math.max(rung.zeros, 0.6))}
                fill="var(--ink)"
              />
            )}
            {(!narrow || rung.offset === marked) && (
              <text
                x={x(rung.offset)}
                y={BARS + 16}
                textAnchor="middle"
                fontSize="12"
                className="num"
                fill="var(--ink)"
              >
                {rung.zeros_text}
              </text>
            )}
          </g>
        );
      })}
      <text x={W - R + 8} y={BARS - 6} fontSize="12" fill="var(--ink)">
        good pixels at 0
      </text>
      <text x={W - R + 8} y={BARS + 10} fontSize="12" fill="var(--ink2)">
        in all frames
      </text>
      {column !== null && marked !== null && (
        <g>
          <rect x={column - 24} y={BASE + 14} width="48" height="28" fill="var(--ink)" />
          <text
            x={column}
            y={BASE + 34}
            textAnchor="middle"
            fontSize="18"
            fontWeight="500"
            className="num"
            fill="var(--paper)"
          >
            {marked}
          </text>
          {effect && effect.floor > 0 && effect.offset === marked && (
            <g>
              <path
                d={`M${column + 28} ${y(effect.floor)}V${y(0)}m-4 0h8M${column + 24} ${y(effect.floor)}h8`}
                stroke="var(--ink)"
                strokeWidth="1.8"
                fill="none"
              />
              <text
                x={column > W - R - 130 ? column - 30 : column + 36}
                textAnchor={column > W - R - 130 ? "end" : "start"}
                y={(y(effect.floor) + y(0)) / 2 + 5}
                fontSize="13"
                fontWeight="500"
                className="num"
                fill="var(--ink)"
                paintOrder="stroke"
                stroke="var(--card)"
                strokeWidth="4"
              >
                {adu.format(effect.floor)} ADU clear
              </text>
            </g>
          )}
        </g>
      )}
    </svg>
  );
}
