import { forwardRef, type CSSProperties } from "react";

import type { Schemas } from "../api/client";
import { several } from "./several";

type SpineData = Schemas["SpineOut"];
type GapData = Schemas["GapOut"];

/** The lowest spine, which holds its number and two lines at its foot, and the room that the highest asks for. */
const LOWEST = 54;
const ROOM = 184;

/** How much of what a spine is above the lowest is drawn where the bay is so high. */
export const scaleOf = (bay: number) => Math.min(1, Math.max(0, (bay - LOWEST) / (ROOM - LOWEST)));

/** Height for a number of frames, on a log scale: 10 → 66 px, 100 → 149 px. */
export function spineHeight(frames: number, scale = 1): number {
  const full = Math.min(180, Math.max(LOWEST, 66 + 25 * Math.log2(Math.max(frames, 1) / 10)));
  return Math.round(LOWEST + (full - LOWEST) * scale);
}

export const ageInk = (step: number) => `var(--age-ink-${step})`;
export const ageFill = (step: number) => `var(--age-${step})`;
const edge = (step: number) =>
  step >= 5 ? "inset 0 0 0 1px var(--age-edge-5)" : "inset 0 0 0 1px var(--age-edge-0)";

/** A small upright slab that stands for a master in a line of text. */
export function SmallSpine({
  step,
  care = false,
  gap = false,
}: {
  step: number;
  care?: boolean;
  gap?: boolean;
}) {
  if (gap) {
    return (
      <span
        className="inline-block h-6 w-2.5 shrink-0 border-2 border-b-0 border-dashed border-accent"
        aria-hidden
      />
    );
  }
  const style = {
    background: ageFill(step),
    boxShadow: edge(step),
    "--hatch": ageInk(step),
  } as CSSProperties;
  return (
    <span aria-hidden className="inline-block h-6 w-2.5 shrink-0 rounded-t-sm" style={style}>
      {care && (
        <span className="hatch block h-full w-full" style={{ "--hatch": ageInk(step) } as CSSProperties} />
      )}
    </span>
  );
}

/** As little as tells it: 'g 100 o 30', broken between the two. */
const short = (foot: string) =>
  foot.replace("gain ", "g\u00a0").replace(", offset ", " o\u00a0").replace("offset ", "o\u00a0");

interface SpineProps {
  spine: SpineData;
  width: number;
  scale: number;
  pulled: boolean;
  tabIndex: number;
  onPull: () => void;
}

/** A master on the shelf. */
export const Spine = forwardRef<HTMLButtonElement, SpineProps>(function Spine(
  { spine, width, scale, pulled, tabIndex, onPull },
  ref,
) {
  const height = spineHeight(spine.frames, scale);
  const ink = ageInk(spine.age_step);
  const care = spine.care.length > 0;
  const label = `${[spine.title, spine.foot].filter(Boolean).join(", ")}, ${spine.frames_words}, ${spine.date}${spine.is_master ? "" : ", not combined yet"}${care ? `, use with care: ${spine.care.join(", ")}` : ""}`;
  const style: CSSProperties = {
    width,
    height,
    background: spine.is_master ? ageFill(spine.age_step) : "var(--card)",
    color: spine.is_master ? ink : "var(--ink)",
    boxShadow: spine.is_master ? edge(spine.age_step) : "inset 0 0 0 1px var(--ink2)",
  };
  const tiny = height < 82;
  return (
    <button
      ref={ref}
      type="button"
      data-spine={spine.id}
      tabIndex={tabIndex}
      onClick={onPull}
      aria-label={label}
      title={label}
      style={style}
      className={`relative shrink-0 overflow-hidden rounded-t-sm text-left transition-transform duration-100 hover:-translate-y-1 ${pulled ? "-translate-y-2" : ""}`}
    >
      {!spine.is_master && (
        <span
          aria-hidden
          className="absolute inset-0"
          style={{ background: "repeating-linear-gradient(0deg, transparent 0 4px, var(--line) 4px 5px)" }}
        />
      )}
      {care && (
        <span
          aria-hidden
          className="hatch absolute inset-0"
          style={{ "--hatch": spine.is_master ? ink : "var(--ink)" } as CSSProperties}
        />
      )}
      <span
        className="num absolute inset-x-0 top-0 mx-1 border-b border-current pt-1 text-center text-m leading-[18px] font-medium"
        style={{ background: (style.background as string) ?? undefined }}
      >
        {spine.frames_text}
      </span>
      {tiny ? (
        <span
          className="spine-type absolute inset-x-1 bottom-1 text-center text-s leading-[14px] font-semibold"
          style={{ background: care || !spine.is_master ? (style.background as string) : undefined }}
        >
          {short(spine.foot)}
        </span>
      ) : (
        <span
          className="absolute bottom-1 left-1/2 flex -translate-x-1/2 flex-col py-0.5 leading-none [writing-mode:vertical-rl]"
          style={{ background: care || !spine.is_master ? (style.background as string) : undefined }}
        >
          <span className="spine-type text-m leading-[15px] font-semibold whitespace-nowrap">
            {spine.foot === spine.gain_text ? spine.foot : short(spine.foot)}
          </span>
          {width >= 38 && (
            <span className="spine-type text-s leading-[14px] whitespace-nowrap">{spine.date}</span>
          )}
        </span>
      )}
    </button>
  );
});

interface GapProps {
  gap: GapData;
  width: number;
  scale: number;
  tabIndex: number;
  onPick: () => void;
}

/** A master that lights wait for: a dashed outline, open at the foot. */
export const Gap = forwardRef<HTMLButtonElement, GapProps>(function Gap(
  { gap, width, scale, tabIndex, onPick },
  ref,
) {
  const label = `Gap: ${[gap.title, gap.gain_text].filter(Boolean).join(", ")}; ${several(gap.lights, "light waits", "lights wait")}`;
  const height = Math.max(spineHeight(gap.frames, scale), 62);
  return (
    <button
      ref={ref}
      type="button"
      data-gap={gap.key}
      tabIndex={tabIndex}
      onClick={onPick}
      aria-label={label}
      title={label}
      style={{ width, height }}
      className="relative shrink-0 text-accent"
    >
      <svg aria-hidden className="absolute inset-0 overflow-visible" width={width} height={height}>
        <path
          d={`M1 ${height}V1H${width - 1}V${height}`}
          fill="none"
          stroke="currentColor"
          strokeWidth="2"
          strokeDasharray="6 4"
        />
      </svg>
      <span className="num absolute inset-x-0 top-1.5 text-center text-l leading-5 font-medium">
        {gap.lights}
      </span>
      <span className="spine-type absolute bottom-1 left-1/2 -translate-x-1/2 text-s leading-[14px] font-semibold whitespace-nowrap [writing-mode:vertical-rl]">
        {gap.lights === 1 ? (height > 100 ? "light waits" : "waits") : height > 100 ? "lights wait" : "wait"}
      </span>
    </button>
  );
});
