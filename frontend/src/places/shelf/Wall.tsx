import { useLayoutEffect, useRef, useState, type ReactNode } from "react";

import type { Schemas } from "../../api/client";
import { FilterStamp } from "../../parts/FilterStamp";
import { useKeys } from "../../parts/useKeys";
import { Gap, scaleOf, Spine, spineHeight } from "../../parts/Spine";

type WallData = Schemas["WallOut"];

const HEAD = 88;
const FACE = 26;
const INSET = 12;
const SLIMMEST = 22;
const BETWEEN = 6;

interface WallProps {
  wall: WallData;
  kind: "darks" | "flats";
  gain: number | null;
  pulled: number | null;
  onPull: (id: number) => void;
  onPickGap: (key: string) => void;
}

/** Width of each slab in a cell, so that all that stand there fit. */
function slabWidth(cell: number, count: number): number {
  const room = cell - 2 * INSET;
  return Math.max(SLIMMEST, Math.min(44, (room - BETWEEN * (count - 1)) / Math.max(count, 1)));
}

/** Width that so many slabs need at least; a bay that holds more than its share is wider, and the wall is walked along. */
const needed = (count: number) => 2 * INSET + count * (SLIMMEST + BETWEEN) - BETWEEN;

/** Width that a filter's name needs, as its stamp cuts it; narrow letters are some 6 px wide. */
const named = (title: string) => 2 * INSET + Math.min(150, 6 * title.length + 18);

/** A wall of the shelf: rows are boards, columns are bays; what stands there, and what is missing. */
export function Wall({ wall, kind, gain, pulled, onPull, onPickGap }: WallProps) {
  const box = useRef<HTMLDivElement>(null);
  const [size, setSize] = useState({ width: 938, height: 630 });
  useLayoutEffect(() => {
    const element = box.current;
    if (!element) return;
    const watch = new ResizeObserver(([entry]) => {
      if (entry) setSize({ width: entry.contentRect.width, height: entry.contentRect.height });
    });
    watch.observe(element);
    return () => watch.disconnect();
  }, []);
  const even = Math.max((size.width - HEAD) / Math.max(wall.columns.length, 1), 70);
  const standing = (items: { row: string; column: string; gain: number | null }[], r: string, c: string) =>
    items.filter((i) => i.row === r && i.column === c && (gain === null || i.gain === gain)).length;
  const cells = wall.columns.map((column) =>
    Math.max(
      even,
      kind === "flats" ? named(column.title) : 0,
      ...wall.rows.map((head) =>
        needed(standing(wall.spines, head.key, column.key) + standing(wall.gaps, head.key, column.key)),
      ),
    ),
  );
  const row = Math.max(128, Math.min(210, size.height / Math.max(wall.rows.length, 1)));
  const bay = row - FACE;
  const scale = scaleOf(bay);
  const width = HEAD + cells.reduce((sum, cell) => sum + cell, 0);
  const boards: ReactNode[] = wall.rows.map((head, index) => (
    <div key={head.key} className="relative flex" style={{ height: row, width }} role="row">
      <div className="sticky left-0 z-10 shrink-0 bg-paper" style={{ width: HEAD }} role="rowheader">
        {index === 0 && kind === "darks" && <Scale bay={bay} scale={scale} />}
        <div className="absolute bottom-0 left-0 flex h-8 w-[82px] flex-col justify-center rounded-sm border-2 border-rule bg-card px-2">
          <span className="narrow text-l leading-4 font-semibold whitespace-nowrap">{head.title}</span>
        </div>
        {head.detail && <span className="num absolute bottom-9 left-1 text-s text-ink2">{head.detail}</span>}
      </div>
      {wall.columns.map((column, place) => {
        const cell = cells[place] ?? even;
        const spines = wall.spines.filter((s) => s.row === head.key && s.column === column.key);
        const gaps = wall.gaps.filter((g) => g.row === head.key && g.column === column.key);
        const shown = spines.filter((s) => gain === null || s.gain === gain);
        const missing = gaps.filter((g) => gain === null || g.gain === gain);
        const slab = slabWidth(cell, shown.length + missing.length);
        const filled = spines.length + gaps.length > 0;
        return (
          <div key={column.key} role="gridcell" className="relative" style={{ width: cell }}>
            <div
              className="flex items-end gap-1.5 border-l border-line bg-card"
              style={{ height: bay, paddingInline: INSET }}
            >
              {shown.map((spine) => (
                <Spine
                  key={spine.id}
                  spine={spine}
                  width={slab}
                  scale={scale}
                  pulled={pulled === spine.id}
                  tabIndex={-1}
                  onPull={() => onPull(spine.id)}
                />
              ))}
              {missing.map((gap) => (
                <Gap
                  key={gap.key}
                  gap={gap}
                  width={slab}
                  scale={scale}
                  tabIndex={-1}
                  onPick={() => onPickGap(gap.key)}
                />
              ))}
            </div>
            <div
              className="flex items-center border-t-[3px] border-ink bg-board"
              style={{ height: FACE, paddingInline: INSET }}
            >
              {kind === "flats" ? (
                <span className={`flex min-w-0 ${filled ? "" : "opacity-80"}`}>
                  <FilterStamp code={column.title} />
                </span>
              ) : (
                <span className={`narrow px-1.5 text-s ${filled ? "bg-card font-semibold" : "text-ink2"}`}>
                  {column.title}
                </span>
              )}
            </div>
          </div>
        );
      })}
    </div>
  ));
  return (
    <div
      ref={box}
      className="h-full overflow-auto"
      // What is walked to is not to lie under the heads of the rows, which stay.
      style={{ scrollPaddingLeft: HEAD }}
      role="grid"
      aria-label={kind}
    >
      <Walk>{boards}</Walk>
    </div>
  );
}

function Scale({ bay, scale }: { bay: number; scale: number }) {
  return (
    <div aria-hidden className="num absolute inset-x-0 top-0 text-s text-ink2" style={{ height: bay }}>
      {/* In a low bay fewer, so that they stand clear of one another. */}
      {(scale < 0.55 ? [10, 50, 200] : [10, 20, 50, 100, 200]).map((frames) => (
        <span
          key={frames}
          className="absolute right-1 -translate-y-1/2 leading-3 after:ml-1 after:inline-block after:w-1 after:border-t after:border-current after:align-middle"
          style={{ top: Math.max(bay - spineHeight(frames, scale), 6) }}
        >
          {frames === 200 ? "frames 200" : frames}
        </span>
      ))}
    </div>
  );
}

/** Arrows walk from slab to slab; one of them is in the tab order. */
function Walk({ children }: { children: ReactNode }) {
  const box = useRef<HTMLDivElement>(null);
  const slabs = () => [
    ...(box.current?.querySelectorAll<HTMLButtonElement>("button[data-spine],button[data-gap]") ?? []),
  ];
  useLayoutEffect(() => {
    const all = slabs();
    if (!all.some((s) => s.tabIndex === 0) && all[0]) all[0].tabIndex = 0;
  });
  const step = (key: string, from: HTMLElement) => {
    const here = from.getBoundingClientRect();
    const x = here.left + here.width / 2;
    const across = key === "ArrowLeft" || key === "ArrowRight";
    const sign = key === "ArrowRight" || key === "ArrowDown" ? 1 : -1;
    let best: HTMLButtonElement | null = null;
    let least = Infinity;
    for (const slab of slabs()) {
      if (slab === from) continue;
      const there = slab.getBoundingClientRect();
      const dx = there.left + there.width / 2 - x;
      const dy = there.bottom - here.bottom;
      const along = across ? dx * sign : dy * sign;
      const off = across ? Math.abs(dy) * 50 : Math.abs(dx);
      if (along <= 2 || (across && Math.abs(dy) > 20)) continue;
      const cost = across ? along + off : along * 4 + off;
      if (cost < least) {
        least = cost;
        best = slab;
      }
    }
    if (best) {
      from.tabIndex = -1;
      best.tabIndex = 0;
      best.focus();
    }
  };
  // From wherever nothing is chosen yet the first arrow goes to the shelf.
  const enter = () => {
    if (document.activeElement !== document.body) return false;
    return slabs()
      .find((s) => s.tabIndex === 0)
      ?.focus();
  };
  useKeys({ ArrowLeft: enter, ArrowRight: enter, ArrowUp: enter, ArrowDown: enter });
  return (
    <div
      ref={box}
      onKeyDown={(event) => {
        if (!event.key.startsWith("Arrow") || !(event.target instanceof HTMLElement)) return;
        event.preventDefault();
        step(event.key, event.target);
      }}
    >
      {children}
    </div>
  );
}
