import {
  useCallback,
  useEffect,
  useLayoutEffect,
  useRef,
  useState,
  type PointerEvent,
  type ReactNode,
  type RefObject,
} from "react";

import { fitted, kept, levelFor, pixelAt, placeOf, tilesSeen, zoomed, type Sight, type Size } from "./sight";
import { drawn, Tiles } from "./tiles";
import { tileAddress, type Looked, type View } from "./views";

export interface Ends {
  black: number;
  white: number;
}

/** What is under the pointer. */
export interface Under {
  x: number;
  y: number;
  level: number;
  /** Mean of so many pixels, across and down. */
  of: number;
}

const tiles = new Tiles();
const STEP = 1.25;

/** Whether a part that is seen could not be had. */
function lacks(looked: Looked, view: View, sight: Sight, pane: Size): boolean {
  const level = levelFor(sight.scale * (window.devicePixelRatio || 1));
  return tilesSeen(sight, pane, view, view.tile * level).some(({ column, row }) =>
    tiles.failed(tileAddress(looked, view, level, column, row)),
  );
}

/** All that is held of a picture that is seen in a pane, coarse tiles first, so that none is ever empty for long. */
function draw(canvas: HTMLCanvasElement, looked: Looked, view: View, sight: Sight, pane: Size, ends: Ends) {
  const context = canvas.getContext("2d");
  if (!context) return;
  const dots = window.devicePixelRatio || 1;
  context.setTransform(dots, 0, 0, dots, 0, 0);
  context.clearRect(0, 0, pane.width, pane.height);
  const fine = levelFor(sight.scale * dots);
  const coarse = levelFor(fitted(view, pane).scale * dots);
  for (const level of new Set([Math.max(coarse, fine), fine])) {
    const side = view.tile * level;
    for (const { column, row } of tilesSeen(sight, pane, view, side)) {
      const tile = tiles.get(tileAddress(looked, view, level, column, row));
      if (!tile) continue;
      const at = placeOf(sight, pane, { x: column * side, y: row * side });
      const scale = sight.scale * level;
      context.imageSmoothingEnabled = scale * dots < 1;
      context.drawImage(
        drawn(tile, ends.black, ends.white),
        at.x,
        at.y,
        tile.width * scale,
        tile.height * scale,
      );
    }
  }
}

/** The level under a point of the picture, from the finest tile that is there. */
function levelUnder(looked: Looked, view: View, sight: Sight, pixel: { x: number; y: number }): Under | null {
  const x = Math.floor(pixel.x);
  const y = Math.floor(pixel.y);
  if (x < 0 || y < 0 || x >= view.width || y >= view.height) return null;
  const of = levelFor(sight.scale * (window.devicePixelRatio || 1));
  const side = view.tile * of;
  const column = Math.floor(x / side);
  const row = Math.floor(y / side);
  const tile = tiles.get(tileAddress(looked, view, of, column, row));
  if (!tile) return null;
  const index = Math.floor((y - row * side) / of) * tile.width + Math.floor((x - column * side) / of);
  return { x, y, of, level: tile.levels[index] ?? NaN };
}

/** How large an element is. */
export function useSize(element: RefObject<HTMLElement | null>): Size {
  const [size, setSize] = useState<Size>({ width: 0, height: 0 });
  useLayoutEffect(() => {
    const watched = element.current;
    if (!watched) return;
    const measure = () => setSize({ width: watched.clientWidth, height: watched.clientHeight });
    measure();
    const observer = new ResizeObserver(measure);
    observer.observe(watched);
    return () => observer.disconnect();
  }, [element]);
  return size;
}

interface PaneProps {
  looked: Looked;
  view: View;
  sight: Sight | null;
  ends: Ends;
  name: string;
  onSight: (sight: Sight) => void;
  onUnder?: (under: Under | null) => void;
  onPick?: (pixel: { x: number; y: number }) => void;
  /** What lies on the picture, drawn in the pane's own measure. */
  marks?: (place: (pixel: { x: number; y: number }) => { x: number; y: number }, scale: number) => ReactNode;
}

/** Fingers and pointers on a pane: one drags, two pull apart, the wheel goes nearer; a press without a drag picks. */
function useHands(pane: Size, sight: Sight, onSight: (sight: Sight) => void, onPick: PaneProps["onPick"]) {
  const down = useRef(new Map<number, { x: number; y: number }>());
  const moved = useRef(0);
  const place = (event: PointerEvent) => {
    const box = event.currentTarget.getBoundingClientRect();
    return { x: event.clientX - box.left, y: event.clientY - box.top };
  };
  return {
    place,
    onPointerDown: (event: PointerEvent<HTMLElement>) => {
      event.currentTarget.setPointerCapture(event.pointerId);
      if (down.current.size === 0) moved.current = 0;
      down.current.set(event.pointerId, place(event));
    },
    onDrag: (event: PointerEvent<HTMLElement>): boolean => {
      const before = down.current.get(event.pointerId);
      if (!before) return false;
      const now = place(event);
      const other = [...down.current].find(([id]) => id !== event.pointerId)?.[1];
      moved.current += Math.hypot(now.x - before.x, now.y - before.y);
      down.current.set(event.pointerId, now);
      const by = { x: (now.x - before.x) / sight.scale, y: (now.y - before.y) / sight.scale };
      if (other) {
        const apart = (p: { x: number; y: number }) => Math.hypot(p.x - other.x, p.y - other.y);
        onSight(zoomed(sight, pane, other, apart(now) / Math.max(apart(before), 1)));
      } else onSight({ ...sight, x: sight.x - by.x, y: sight.y - by.y });
      return true;
    },
    onPointerUp: (event: PointerEvent<HTMLElement>) => {
      down.current.delete(event.pointerId);
      if (moved.current < 4 && onPick) onPick(pixelAt(sight, pane, place(event)));
    },
    onPointerCancel: (event: PointerEvent<HTMLElement>) => {
      down.current.delete(event.pointerId);
    },
  };
}

/** A picture in a pane: it is dragged, the wheel brings it nearer. */
export function Pane({ looked, view, sight, ends, name, onSight, onUnder, onPick, marks }: PaneProps) {
  const box = useRef<HTMLDivElement>(null);
  const canvas = useRef<HTMLCanvasElement>(null);
  const pane = useSize(box);
  const seen = kept(sight ?? fitted(view, pane), view, pane);
  const look = useCallback((next: Sight) => onSight(kept(next, view, pane)), [onSight, view, pane]);
  const hands = useHands(pane, seen, look, onPick);
  const dots = window.devicePixelRatio || 1;
  const [, again] = useState(0);
  useEffect(() => tiles.listen(() => again((n) => n + 1)), []);
  useLayoutEffect(() => {
    if (canvas.current && pane.width > 0) draw(canvas.current, looked, view, seen, pane, ends);
  });
  useEffect(() => {
    const watched = box.current;
    if (!watched) return;
    // Not React's own handler: that may not keep the page from scrolling.
    const wheel = (event: WheelEvent) => {
      event.preventDefault();
      const edge = watched.getBoundingClientRect();
      const at = { x: event.clientX - edge.left, y: event.clientY - edge.top };
      look(zoomed(seen, pane, at, Math.exp(-event.deltaY / 400)));
    };
    watched.addEventListener("wheel", wheel, { passive: false });
    return () => watched.removeEventListener("wheel", wheel);
  });
  const keys: Record<string, () => void> = {
    ArrowLeft: () => look({ ...seen, x: seen.x - pane.width / seen.scale / 8 }),
    ArrowRight: () => look({ ...seen, x: seen.x + pane.width / seen.scale / 8 }),
    ArrowUp: () => look({ ...seen, y: seen.y - pane.height / seen.scale / 8 }),
    ArrowDown: () => look({ ...seen, y: seen.y + pane.height / seen.scale / 8 }),
    "+": () => look({ ...seen, scale: seen.scale * STEP }),
    "=": () => look({ ...seen, scale: seen.scale * STEP }),
    "-": () => look({ ...seen, scale: seen.scale / STEP }),
  };
  return (
    <div
      ref={box}
      role="application"
      aria-label={`${name}: arrows move it, plus and minus bring it nearer or further`}
      tabIndex={0}
      className="relative min-h-0 min-w-0 flex-1 cursor-crosshair touch-none overflow-hidden bg-board select-none"
      onKeyDown={(event) => {
        const does = keys[event.key];
        if (!does) return;
        event.preventDefault();
        does();
      }}
      onPointerDown={hands.onPointerDown}
      onPointerUp={hands.onPointerUp}
      onPointerCancel={hands.onPointerCancel}
      onPointerMove={(event) => {
        if (!hands.onDrag(event))
          onUnder?.(levelUnder(looked, view, seen, pixelAt(seen, pane, hands.place(event))));
      }}
      onPointerLeave={() => onUnder?.(null)}
    >
      <span className="picture absolute" style={edgesOf(seen, pane, view)}>
        <canvas
          ref={canvas}
          width={Math.round(pane.width * dots)}
          height={Math.round(pane.height * dots)}
          style={{ ...placed(seen, pane, view), width: pane.width, height: pane.height }}
          className="absolute"
        />
      </span>
      {lacks(looked, view, seen, pane) && (
        <p role="alert" className="absolute bottom-2 left-2 border-l-4 border-accent bg-card px-3 py-1">
          A part of the picture could not be read. It is asked for again.
        </p>
      )}
      {marks && (
        <svg className="pointer-events-none absolute inset-0" width={pane.width} height={pane.height}>
          {marks((pixel) => placeOf(seen, pane, pixel), seen.scale)}
        </svg>
      )}
    </div>
  );
}

/** The part of the pane that the picture covers: only there is its white the night's. */
function edgesOf(sight: Sight, pane: Size, picture: Size) {
  const first = placeOf(sight, pane, { x: 0, y: 0 });
  const last = placeOf(sight, pane, { x: picture.width, y: picture.height });
  const left = Math.max(first.x, 0);
  const top = Math.max(first.y, 0);
  return {
    left,
    top,
    width: Math.max(Math.min(last.x, pane.width) - left, 0),
    height: Math.max(Math.min(last.y, pane.height) - top, 0),
    overflow: "hidden",
  };
}

function placed(sight: Sight, pane: Size, picture: Size) {
  const { left, top } = edgesOf(sight, pane, picture);
  return { left: -left, top: -top };
}
