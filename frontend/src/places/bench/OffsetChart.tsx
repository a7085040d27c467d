import { scaleLinear, scaleLog } from "d3-scale";
import type { MouseEvent, RefObject } from "react";

import type { Schemas } from "../../api/client";
import { Label } from "../../parts/Label";
import { chartWidth, useChartWidth } from "../../parts/chartWidth";

type Data = Schemas["OffsetGainOut"];
type Rung = Schemas["RungOut"];

const across = () => chartWidth(736);
const H = 560;
const L = 62;
const R = 124;
const TOP = 22;
const BASE = 400;
const [BARS_TOP, BARS] = [452, 520];

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
  const enough = answer === null ? null : rungs.find((r) => r.offset >= Math.max(answer * 1.9, answer + 4));
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

/** Where things stand in the chart. */
function geometry(data: Data, chosen: number | null) {
  const right = furthest(data.rungs, data.answer?.offset ?? null);
  const low = Math.min(0, data.rungs[0]?.offset ?? 0);
  const shown = data.rungs.filter((r) => r.offset <= right);
  const x = scaleLinear()
    .domain([low, Math.max(right, low + 1)])
    .range([L + 32, across() - R - 18]);
  const top = Math.max(...shown.map((r) => r.mean), data.margin * 2, 50) * 1.08;
  const y = scaleLinear().domain([0, top]).range([BASE, TOP]);
  const slope = data.line?.slope ?? null;
  const atZero = data.line?.floor_at_zero ?? null;
  const most = Math.max(10, ...shown.map((r) => r.zeros));
  return {
    right,
    low,
    shown,
    beyond: data.rungs.filter((r) => r.offset > right),
    x,
    y,
    slope,
    line: (offset: number) => (data.line ? data.line.at_zero + (slope ?? 0) * offset : null),
    floor: (offset: number) => (atZero === null ? null : atZero + (slope ?? 0) * offset),
    floorFrom: Math.max(low, data.line?.floor_from ?? low),
    bars: scaleLog().domain([0.5, most]).range([BARS, BARS_TOP]),
    /** Room for a rung before the next ones begin. */
    room: (i: number) => {
      const here = shown[i]?.offset ?? 0;
      const gaps = [shown[i - 1], shown[i + 1]].flatMap((n) => (n ? [Math.abs(n.offset - here)] : []));
      return Math.max((x(low + Math.min(...gaps, right - low)) - x(low)) * 0.9, 8);
    },
    marked: chosen ?? data.answer?.offset ?? null,
  };
}

type Geometry = ReturnType<typeof geometry>;

/** What is written beside the right end. */
function endLabels(g: Geometry, earlier: Data | null) {
  const end = g.shown.at(-1);
  if (!end) return [];
  const { y, right } = g;
  const lowest = end.minima.reduce((a, b) => a + b, 0) / Math.max(end.minima.length, 1);
  const floor = g.floor(right) ?? 0;
  const labels: { y: number; text: string; strong?: boolean }[] = [
    { y: y(end.mean), text: "mean", strong: true },
    { y: y(end.darkest_percent), text: "darkest 1 %" },
    { y: y(end.darkest_permyriad), text: "darkest 0.01 %" },
    { y: y(lowest) + 4, text: "darkest pixel", strong: true },
  ];
  if (floor > 0) labels.push({ y: y(floor) + 4, text: "floor, 99 in 100" });
  if (earlier?.line?.slope && earlier.depth !== null) {
    const then = earlier.line.at_zero + earlier.line.slope * right + earlier.depth;
    labels.push({ y: y(then) + 4, text: "floor measured earlier" });
  }
  return apart(labels, 16);
}

/** What was measured earlier, behind it all. */
function Earlier({ earlier, g }: { earlier: Data; g: Geometry }) {
  const { x, y, low, right } = g;
  const slope = earlier.line?.slope;
  if (!earlier.line || !slope || earlier.depth === null) return null;
  const line = (offset: number) => (earlier.line?.at_zero ?? 0) + slope * offset;
  const floorFrom = Math.max(low, (-earlier.depth - earlier.line.at_zero) / slope);
  return (
    <g stroke="var(--ink2)" strokeDasharray="2 4" fill="none">
      <path d={`M${x(low)} ${y(Math.max(line(low), 0))}L${x(right)} ${y(line(right))}`} />
      <path d={`M${x(floorFrom)} ${y(0)}L${x(right)} ${y(Math.max(line(right) + earlier.depth, 0))}`} />
      {earlier.answer && earlier.answer.offset <= right && (
        <path d={`M${x(earlier.answer.offset)} ${BASE + 8}v12`} strokeWidth="3" strokeDasharray="none" />
      )}
    </g>
  );
}

/** The band from the mean to the floor, and the two lines that bound it. */
function Band({ data, earlier, g }: { data: Data; earlier: Data | null; g: Geometry }) {
  const { x, y, low, right, floorFrom } = g;
  const at = (offset: number, level: number | null) => `${x(offset)} ${y(Math.max(level ?? 0, 0))}`;
  const mean = `M${at(low, g.line(low))}L${x(right)} ${y(g.line(right) ?? 0)}`;
  return (
    <>
      {g.shown.length > 1 && g.slope !== null && (
        <path
          d={`${mean}V${y(Math.max(g.floor(right) ?? 0, 0))}L${at(floorFrom, g.floor(floorFrom))}H${x(low)}Z`}
          fill="var(--board)"
          fillOpacity="0.55"
        />
      )}
      {earlier && <Earlier earlier={earlier} g={g} />}
      {g.slope !== null && <path d={mean} stroke="var(--ink)" strokeWidth="1.4" />}
      {g.slope !== null && data.depth !== null && (g.floor(right) ?? 0) > 0 && (
        <path
          d={`M${at(floorFrom, g.floor(floorFrom))}L${x(right)} ${y(g.floor(right) ?? 0)}`}
          stroke="var(--ink)"
          strokeDasharray="5 3"
        />
      )}
      {data.depth !== null && (
        <>
          <path d={`M${L} ${y(data.margin)}H${across() - R}`} stroke="var(--ink2)" strokeDasharray="6 4" />
          <Label x={L + 6} y={y(data.margin) - 5} halo>
            {adu.format(data.margin)} ADU asked for
          </Label>
        </>
      )}
    </>
  );
}

/** The frames at one offset: mean, darkest shares, and each frame's darkest pixel. */
function RungMarks({
  rung,
  room,
  dead,
  g,
}: {
  rung: Rung;
  room: number;
  dead?: Schemas["DeadOut"];
  g: Geometry;
}) {
  const { y } = g;
  const x = g.x(rung.offset);
  const half = Math.min(room / 2, 14);
  const short = half * 0.75;
  return (
    <g>
      <path
        d={`M${x} ${y(rung.mean)}V${y(Math.min(...rung.minima, rung.darkest_permyriad))}`}
        stroke="var(--rule)"
      />
      <path d={`M${x - half} ${y(rung.mean)}h${2 * half}`} stroke="var(--ink)" strokeWidth="3.4" />
      <path
        d={[rung.darkest_percent, rung.darkest_permyriad]
          .map((v) => `M${x - short} ${y(v)}h${2 * short}`)
          .join("")}
        stroke="var(--ink)"
        strokeWidth="1.4"
      />
      {dead && room > 40 && (
        <path d={`M${x + half + 6} ${y(Math.max(dead.level, 0)) - 8}l6 6m0 -6l-6 6`} stroke="var(--ink)" />
      )}
      <Dots rung={rung} x={x} y={y} room={room} />
    </g>
  );
}

/** Axes and words at the edges. */
function Frame({ data, earlier, g }: { data: Data; earlier: Data | null; g: Geometry }) {
  const { x, y, marked, beyond } = g;
  // The answer's number is written large; ticks that it would cover give way.
  const ticks = g.shown.reduce<Rung[]>((kept, rung) => {
    const at = x(rung.offset);
    const last = kept.at(-1);
    const clear = (marked === null || Math.abs(at - x(marked)) > 34) && (!last || at - x(last.offset) >= 22);
    return clear ? [...kept, rung] : kept;
  }, []);
  const beside = across() - R + 8;
  return (
    <>
      <path d={`M${L} ${TOP}V${BASE}`} stroke="var(--ink)" />
      <path d={`M${L} ${BASE}H${across() - R}`} stroke="var(--ink)" strokeWidth="2.6" />
      <rect x={L} y={BASE + 1} width={across() - R - L} height="8" fill="url(#lost)" />
      {y.ticks(6).map((tick) => (
        <g key={tick}>
          <path d={`M${L - 5} ${y(tick)}h5`} stroke="var(--ink)" />
          <Label x={L - 9} y={y(tick) + 4} anchor="end" num>
            {adu.format(tick)}
          </Label>
        </g>
      ))}
      {ticks.map((rung) => (
        <Label key={rung.offset} x={x(rung.offset)} y={BASE + 32} anchor="middle" size="13" num strong>
          {rung.offset}
        </Label>
      ))}
      {endLabels(g, earlier).map((label) => (
        <Label key={label.text} x={beside} y={label.y + 4} strong={label.strong}>
          {label.text}
        </Label>
      ))}
      <Label x={beside} y={BASE + 12} strong>
        zero: cut off
      </Label>
      <Label x={beside} y={BASE + 32}>
        offset setting
      </Label>
      {data.dead.length > 0 && (
        <Label x={beside} y={BASE - 4}>
          × dead pixel{data.dead.length > 1 ? "s" : ""}
        </Label>
      )}
      {beyond.length > 0 && (
        <Label x={beside} y={TOP + 2}>
          also {beyond.map((r) => r.offset).join(", ")} →
        </Label>
      )}
    </>
  );
}

/** Pixels at zero, on a log scale: from millions through thousands to none. */
function ZeroBars({ g }: { g: Geometry }) {
  return (
    <>
      <path d={`M${L} ${BARS}H${across() - R}`} stroke="var(--rule)" />
      {g.shown.map((rung, i) => {
        const [at, room, top] = [g.x(rung.offset), g.room(i), g.bars(Math.max(rung.zeros, 0.6))];
        const narrow = room < 30 && rung.zeros === 0;
        return (
          <g key={rung.offset}>
            {rung.zeros > 0 && (
              <rect
                x={at - Math.min(room / 2, 9)}
                y={top}
                width={Math.min(room, 18)}
                height={BARS - top}
                fill="var(--ink)"
              />
            )}
            {(!narrow || rung.offset === g.marked) && (
              <Label x={at} y={BARS + 16} anchor="middle" num strong>
                {rung.zeros_text}
              </Label>
            )}
          </g>
        );
      })}
      <Label x={across() - R + 8} y={BARS - 6} strong>
        good pixels at 0
      </Label>
      <Label x={across() - R + 8} y={BARS + 10}>
        in all frames
      </Label>
    </>
  );
}

/** The offset that was chosen, and how clear of zero it keeps the darkest pixels. */
function Marked({ data, marked, g }: { data: Data; marked: number; g: Geometry }) {
  const { y } = g;
  const column = g.x(marked);
  const effect = data.effects.find((e) => e.offset === marked) ?? data.answer;
  const atEdge = column > across() - R - 105;
  return (
    <g>
      <rect x={column - 24} y={BASE + 14} width="48" height="28" fill="var(--ink)" />
      <Label x={column} y={BASE + 34} anchor="middle" size="18" weight="500" num onInk>
        {marked}
      </Label>
      {effect && effect.floor > 0 && effect.offset === marked && (
        <g>
          <path
            d={`M${column + 28} ${y(effect.floor)}V${y(0)}m-4 0h8M${column + 24} ${y(effect.floor)}h8`}
            stroke="var(--ink)"
            strokeWidth="1.8"
            fill="none"
          />
          <Label
            x={atEdge ? column - 30 : column + 36}
            y={(y(effect.floor) + y(0)) / 2 + 5}
            anchor={atEdge ? "end" : "start"}
            size="13"
            num
            strong
            weight="500"
            halo
          >
            {adu.format(effect.floor)} ADU clear
          </Label>
        </g>
      )}
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
  useChartWidth();
  const g = geometry(data, chosen);
  const choose = (event: MouseEvent<SVGSVGElement>) => {
    const box = event.currentTarget.getBoundingClientRect();
    const at = g.x.invert(((event.clientX - box.left) / box.width) * across());
    const near = data.effects.reduce<number | null>(
      (best, e) => (best === null || Math.abs(e.offset - at) < Math.abs(best - at) ? e.offset : best),
      null,
    );
    if (near !== null) onChoose(near);
  };
  return (
    <svg
      ref={chart}
      viewBox={`0 0 ${across()} ${H}`}
      className="block w-full"
      role="img"
      aria-label={`Levels of bias frames against offset at ${data.gain_text}, ${data.n_frames} frames`}
      onClick={choose}
    >
      <defs>
        <pattern id="lost" width="7" height="7" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
          <rect width="1.6" height="7" fill="var(--ink)" />
        </pattern>
      </defs>
      <Label x={L - 8} y={TOP - 8} anchor="end">
        ADU
      </Label>
      <Band data={data} earlier={earlier} g={g} />
      {g.marked !== null && (
        <rect
          x={g.x(g.marked) - 22}
          y={TOP - 6}
          width="44"
          height={BARS + 26 - TOP}
          fill="none"
          stroke="var(--ink)"
          strokeWidth="1.5"
        />
      )}
      {g.shown.map((rung, i) => (
        <RungMarks key={rung.offset} rung={rung} room={g.room(i)} dead={data.dead[0]} g={g} />
      ))}
      <Frame data={data} earlier={earlier} g={g} />
      <ZeroBars g={g} />
      {g.marked !== null && <Marked data={data} marked={g.marked} g={g} />}
    </svg>
  );
}
