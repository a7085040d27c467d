import { useRef, useState, type KeyboardEvent, type PointerEvent } from "react";

import type { Schemas } from "../../api/client";
import type { Ends } from "./Pane";

type Histogram = Schemas["HistogramOut"];

const WIDTH = 276;
const HEIGHT = 84;

/** The bins as one line, high where many pixels are; by the root, so that few are seen as well. */
function outline(histogram: Histogram): string {
  const most = Math.max(...histogram.counts, 1);
  const wide = WIDTH / histogram.counts.length;
  const steps = histogram.counts.map((n, i) => {
    const y = HEIGHT - (HEIGHT - 4) * Math.sqrt(n / most);
    return `L${(i * wide).toFixed(1)} ${y.toFixed(1)}H${((i + 1) * wide).toFixed(1)}`;
  });
  return `M0 ${HEIGHT}${steps.join("")}V${HEIGHT}Z`;
}

/** One end of the stretch: dragged, moved by the arrows, or typed. */
function End({
  name,
  level,
  at,
  digits,
  step,
  onMove,
}: {
  name: string;
  level: number;
  at: number;
  digits: number;
  step: number;
  onMove: (level: number) => void;
}) {
  const press = (event: KeyboardEvent) => {
    const by = { ArrowLeft: -1, ArrowDown: -1, ArrowRight: 1, ArrowUp: 1, PageDown: -10, PageUp: 10 }[
      event.key
    ];
    if (by === undefined) return;
    event.preventDefault();
    event.stopPropagation();
    onMove(level + by * step * (event.shiftKey ? 10 : 1));
  };
  return (
    <g
      role="slider"
      tabIndex={0}
      aria-label={`Level that is ${name}`}
      aria-valuenow={level}
      aria-valuetext={level.toFixed(digits)}
      onKeyDown={press}
      transform={`translate(${at} 0)`}
      className="cursor-ew-resize"
      data-end={name}
    >
      <path d={`M0 0V${HEIGHT}`} stroke="var(--ink)" strokeWidth="2" />
      <path
        d="M-7 -2h14v9l-7 6l-7 -6z"
        fill={name === "black" ? "var(--ink)" : "var(--card)"}
        stroke="var(--ink)"
      />
      <path d={`M-9 -4h18V${HEIGHT}h-18z`} fill="transparent" />
    </g>
  );
}

/** How often each level occurs, and the ends of the stretch on it. */
export function Levels({
  histogram,
  ends,
  digits,
  unit,
  onEnds,
}: {
  histogram: Histogram;
  ends: Ends;
  digits: number;
  unit: string;
  onEnds: (ends: Ends) => void;
}) {
  const svg = useRef<SVGSVGElement>(null);
  const held = useRef<"black" | "white" | null>(null);
  const span = histogram.step * histogram.counts.length;
  const step = Math.max(span / 400, digits === 0 ? 1 : 10 ** -digits);
  const atOf = (level: number) => Math.min(Math.max(((level - histogram.first) / span) * WIDTH, 0), WIDTH);
  const set = (which: "black" | "white", level: number) => {
    if (!Number.isFinite(level)) return;
    const next = { ...ends, [which]: level };
    if (next.black < next.white) onEnds(next);
  };
  const levelOf = (event: PointerEvent) => {
    const box = svg.current?.getBoundingClientRect();
    const at = box ? ((event.clientX - box.left) / box.width) * (WIDTH + 16) - 8 : 0;
    return histogram.first + (Math.min(Math.max(at, 0), WIDTH) / WIDTH) * span;
  };
  const grab = (event: PointerEvent<SVGSVGElement>) => {
    const level = levelOf(event);
    held.current = Math.abs(level - ends.black) <= Math.abs(level - ends.white) ? "black" : "white";
    event.currentTarget.setPointerCapture(event.pointerId);
    set(held.current, level);
  };
  return (
    <div>
      <svg
        ref={svg}
        viewBox={`-8 -6 ${WIDTH + 16} ${HEIGHT + 7}`}
        className="block w-full touch-none"
        onPointerDown={grab}
        onPointerMove={(event) => held.current && set(held.current, levelOf(event))}
        onPointerUp={() => (held.current = null)}
      >
        <path d={`M0 ${HEIGHT}H${WIDTH}`} stroke="var(--ink)" />
        <path d={outline(histogram)} fill="var(--rule)" />
        {(["black", "white"] as const).map((name) => (
          <End
            key={name}
            name={name}
            level={ends[name]}
            at={atOf(ends[name])}
            digits={digits}
            step={step}
            onMove={(level) => set(name, level)}
          />
        ))}
      </svg>
      <div className="flex items-center gap-2">
        <Typed
          key={`black ${ends.black}`}
          name="black"
          level={ends.black}
          digits={digits}
          onLevel={(level) => set("black", level)}
        />
        <span className="picture-scale h-1.5 flex-1 border border-line" />
        <Typed
          key={`white ${ends.white}`}
          name="white"
          level={ends.white}
          digits={digits}
          onLevel={(level) => set("white", level)}
        />
      </div>
      <p className="num mt-1 text-s text-ink2">
        median {shown(histogram.median, digits)}, {shown(histogram.lowest, digits)} to{" "}
        {shown(histogram.highest, digits)} {unit}
      </p>
    </div>
  );
}

function shown(level: number, digits: number): string {
  return level.toLocaleString("en", { minimumFractionDigits: digits, maximumFractionDigits: digits });
}

/** A level, typed: taken when the field is left or Enter is struck. */
function Typed({
  name,
  level,
  digits,
  onLevel,
}: {
  name: string;
  level: number;
  digits: number;
  onLevel: (level: number) => void;
}) {
  const [text, setText] = useState(level.toFixed(digits));
  const take = () => {
    const typed = Number(text.replace(/[\s,\u2009]/g, "").replace("−", "-"));
    if (text.trim() && Number.isFinite(typed)) onLevel(typed);
    setText(level.toFixed(digits));
  };
  return (
    <input
      value={text}
      inputMode="decimal"
      aria-label={`Level that is ${name}, typed`}
      className="num h-6 w-[84px] rounded-sm border border-rule bg-card px-1 text-right text-s"
      onChange={(event) => setText(event.target.value)}
      onBlur={take}
      onKeyDown={(event) => event.key === "Enter" && take()}
    />
  );
}
