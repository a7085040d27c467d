import { useLayoutEffect, useRef, useState, type RefObject } from "react";

import type { Schemas } from "../../api/client";
import { FilterStamp } from "../../parts/FilterStamp";
import { GateSign } from "../../parts/Gate";
import { several } from "../../parts/several";

type Step = Schemas["StepOut"];

const GATE = 62;
/** Below this the last block has no room for its start beside the end of all. */
const TWO_CLOCKS = 112;
/** A letter of a gate's head is about so wide; a head that would reach the next one is set smaller. */
const HEAD_LETTER = 8.4;
const BREAK = 64;
const POST = 3;

interface Block {
  key: string;
  kind: "gate" | "work";
  steps: Step[];
  seconds: number;
  after: boolean;
}

const OPEN = new Set(["to do", "doing", "waiting"]);
/** Steps that no one filter names: their title does. */
const TITLED = new Set(["darks", "bias", "dark flats"]);
const seconds = (step: Step) => Math.max((Date.parse(step.end) - Date.parse(step.start)) / 1000, 1);

/** Steps as blocks: a search and its flats are one, builds take no room, darks stand beyond the break. */
function blocks(steps: Step[]): Block[] {
  const made: Block[] = [];
  let after = false;
  const live = steps.filter((s) => s.state !== "skipped" && s.kind !== "build");
  for (const step of live) {
    if (step.kind === "cool" || step.kind === "darks" || step.kind === "bias") after = true;
    if (step.kind === "gate") {
      made.push({ key: `g${step.id}`, kind: "gate", steps: [step], seconds: 0, after });
      continue;
    }
    const last = made.at(-1);
    const joins = step.kind === "flats" && last?.steps[0]?.kind === "find" && last.steps[0].row === step.row;
    if (last && joins) {
      last.steps.push(step);
      last.seconds += seconds(step);
    } else {
      made.push({ key: `w${step.id}`, kind: "work", steps: [step], seconds: seconds(step), after });
    }
  }
  return made;
}

/** Share of a block that is done. */
function doneShare(block: Block): number {
  const main = block.steps.at(-1);
  if (!main) return 0;
  const series = main.count > 0 && main.kind !== "find";
  // A hand may tick a series off before all of it is in.
  if (!OPEN.has(main.state)) return series && main.kind !== "build" ? Math.min(main.done / main.count, 1) : 1;
  return series ? main.done / main.count : 0;
}

interface Drawn extends Block {
  x: number;
  width: number;
}

function layOut(
  all: Block[],
  width: number,
): { drawn: Drawn[]; breakAt: number | null; postAt: number | null } {
  const gates = all.filter((b) => b.kind === "gate").length;
  const beyond = all.filter((b) => b.after && b.kind === "work");
  const before = all.filter((b) => !b.after && b.kind === "work");
  const both = beyond.length > 0 && before.length > 0;
  const room = width - gates * GATE - (both ? BREAK : 0) - POST - 8;
  const beyondRoom = both ? Math.min(300, room * 0.3) : beyond.length ? room : 0;
  const beforeRoom = room - beyondRoom;
  const share = (list: Block[], space: number) => {
    const least = Math.min(58, space / Math.max(list.length, 1));
    const total = list.reduce((sum, b) => sum + b.seconds, 0) || 1;
    const spare = space - least * list.length;
    return new Map(list.map((b) => [b.key, least + (spare * b.seconds) / total]));
  };
  const widths = new Map([...share(before, beforeRoom), ...share(beyond, beyondRoom)]);
  const drawn: Drawn[] = [];
  let x = 0;
  let breakAt: number | null = null;
  let postAt: number | null = null;
  for (const block of all) {
    if (block.after && both && breakAt === null) {
      postAt = x;
      breakAt = x + POST;
      x += POST + BREAK;
    }
    const w = block.kind === "gate" ? GATE : (widths.get(block.key) ?? 0);
    drawn.push({ ...block, x, width: w });
    x += w;
  }
  return { drawn, breakAt, postAt: postAt ?? x };
}

function WorkBlock({ block, high, now, bare }: { block: Drawn; high: number; now: boolean; bare: boolean }) {
  const main = block.steps.at(-1);
  if (!main) return null;
  const search = block.steps.find((s) => s.kind === "find");
  const share = doneShare(block);
  const wanted = block.steps.some((s) => s.wanted);
  const lost = block.steps.some((s) => s.state === "no answer");
  const finished = share >= 1 && !lost;
  const waitedFor = main.kind === "darks" && wanted && share === 0;
  const words =
    main.kind === "find"
      ? `${main.title}: ${lost ? "no answer" : main.state}`
      : `${main.title}${main.exposure ? ` of ${main.exposure}` : ""}, ${main.start_clock} to ${main.end_clock}, ${main.state}`;
  return (
    <div
      role="listitem"
      aria-label={words}
      title={words}
      className="absolute top-0 bottom-0"
      style={{ left: block.x, width: block.width }}
    >
      <div
        className={`absolute inset-x-[3px] bottom-[29px] overflow-hidden ${
          finished
            ? "rounded-t-sm text-[var(--age-ink-1)]"
            : `border-2 border-b-0 border-dashed ${lost || wanted ? "border-accent" : "border-rule"}`
        } ${now ? "outline-2 outline-ink" : ""}`}
        style={{ top: 44 - high, background: finished ? "var(--age-1)" : undefined }}
      >
        {!finished && !lost && share > 0 && (
          <span className="absolute inset-x-0 bottom-0 bg-line" style={{ height: `${share * 100}%` }} />
        )}
        <span className="relative flex flex-col items-center gap-1.5 pt-2.5">
          <span className="num text-l font-medium">
            {main.kind === "cool"
              ? ""
              : main.kind === "find"
                ? "?"
                : finished || (main.done === 0 && OPEN.has(main.state))
                  ? main.count
                  : `${main.done}/${main.count}`}
          </span>
          {main.filter_code && main.kind !== "dark flats" && (
            <FilterStamp code={main.filter_code} nm={main.passband_nm} />
          )}
          {main.filter_code && main.filter_code !== "none" && main.kind === "dark flats" && (
            <span className="narrow line-clamp-3 px-1 text-center text-s leading-4">
              for {main.filter_code}
            </span>
          )}
          {TITLED.has(main.kind) && !main.filter_code && block.width > 90 && (
            <span className="px-1 text-center text-s leading-4">{main.title}</span>
          )}
          {main.kind === "cool" && block.width > 50 && (
            <span className="px-1 text-center text-s leading-4">{main.title}</span>
          )}
        </span>
        <span className={`absolute inset-x-0 bottom-2 text-center text-s ${waitedFor ? "text-accent" : ""}`}>
          {lost && main.kind === "find" ? (
            <span className="font-semibold text-accent">no answer</span>
          ) : waitedFor ? (
            several(main.lights, "light waits", "lights wait")
          ) : (
            <span className={main.exposure_known || share > 0 ? "num" : "num text-ink2"}>
              {main.exposure && main.kind !== "cool"
                ? `${main.exposure_known || search?.state === "done" ? "" : "≈"}${main.exposure}`
                : ""}
            </span>
          )}
        </span>
      </div>
      {!bare && <span className="num absolute bottom-1 left-1.5 text-s">{block.steps[0]?.start_clock}</span>}
    </div>
  );
}

/** Something that a person does: it cuts the line. */
function GateBlock({
  block,
  next,
  room,
  most,
  onDone,
}: {
  block: Drawn;
  /** Whether it is the next thing to do. */
  next: boolean;
  /** Until the gate after it begins, and until the board ends. */
  room: number;
  most: number;
  onDone?: ((gate: Schemas["GateOut"]) => void) | undefined;
}) {
  const step = block.steps[0];
  if (!step) return null;
  const waits = step.state === "waiting";
  const done = !OPEN.has(step.state);
  const head = `${step.title}${next ? ", now" : ""}`;
  const look = next
    ? "border-accent bg-accent text-accent-text"
    : done
      ? "border-rule bg-board text-ink2"
      : "border-ink bg-card";
  return (
    <div role="listitem" className="absolute top-0 bottom-0" style={{ left: block.x, width: GATE }}>
      <div
        className="absolute top-0 left-0 overflow-hidden whitespace-nowrap"
        style={{ maxWidth: Math.min(room, most) }}
      >
        <p
          className={`${head.length * HEAD_LETTER > room ? "text-l leading-6" : "text-xl"} font-semibold ${
            next ? "text-accent" : done ? "text-ink2" : ""
          }`}
          style={{ fontStretch: head.length * HEAD_LETTER > room ? "70%" : "88%" }}
        >
          {head}
        </p>
        <p className="truncate text-s text-ink2" title={step.gate?.brief}>
          {step.gate?.brief}
        </p>
      </div>
      <button
        type="button"
        aria-label={`${step.title}, ${step.start_clock}${waits ? ": waits for you" : done ? ": done" : ""}`}
        disabled={!waits || !onDone}
        onClick={() => step.gate && onDone?.(step.gate)}
        className={`absolute inset-x-0 top-[50px] bottom-0 flex flex-col items-center justify-center rounded-sm border-[2.5px] ${look}`}
      >
        <GateSign gate={step.gate?.sign ?? ""} />
        <span className="num absolute bottom-1 text-s">{step.start_clock}</span>
      </button>
    </div>
  );
}

/** Where hands are free and the scale changes. */
function ScaleBreak({ at, free }: { at: number; free: Drawn | undefined }) {
  return (
    <div className="absolute top-[50px] bottom-0 bg-paper" style={{ left: at, width: BREAK }}>
      {free && (
        <p className="absolute inset-x-0 bottom-[44px] text-center text-s leading-4" title="Hands are free">
          hands
          <br />
          free
          <br />
          <span className="num font-medium">{free.steps.at(-1)?.end_clock}</span>
        </p>
      )}
      <svg aria-hidden width={BREAK} height="250" className="absolute bottom-0">
        <path d={`M2 238h${BREAK - 4}`} stroke="var(--rule)" strokeDasharray="2 4" />
        <path d="M24 248l8-20M32 248l8-20" stroke="var(--ink)" strokeWidth="1.6" />
      </svg>
    </div>
  );
}

/** How wide an element is, as long as it is there. */
function useWidth(box: RefObject<HTMLElement | null>, first: number): number {
  const [width, setWidth] = useState(first);
  useLayoutEffect(() => {
    const element = box.current;
    if (!element) return;
    const watch = new ResizeObserver(([entry]) => entry && setWidth(entry.contentRect.width));
    watch.observe(element);
    return () => watch.disconnect();
  }, [box]);
  return width;
}

/** The run sheet on one time line, on a board: gates cut it, a break stands where the scale changes. */
export function TimeLine({
  steps,
  current,
  running = false,
  onDone,
}: {
  steps: Step[];
  current: number | null;
  running?: boolean;
  onDone?: (gate: Schemas["GateOut"]) => void;
}) {
  const box = useRef<HTMLDivElement>(null);
  const width = useWidth(box, 1232);
  const { drawn, breakAt, postAt } = layOut(blocks(steps), width);
  const work = drawn.filter((b) => b.kind === "work");
  const last = work.at(-1);
  const firstGate = drawn.find((b) => b.kind === "gate" && OPEN.has(b.steps[0]?.state ?? ""));
  // Before the start the first gate is the next thing to do; in a run, only one that waits is.
  const isNext = (block: Drawn) => block === firstGate && (block.steps[0]?.state === "waiting" || !running);
  const roomOf = (block: Drawn) => {
    const following = drawn.find((other) => other.kind === "gate" && other.x > block.x);
    return following ? following.x - block.x - 12 : Infinity;
  };
  return (
    <div ref={box} className="relative h-[300px]" role="list" aria-label="The run sheet">
      <div className="absolute inset-x-0 top-[50px] bottom-[29px] bg-card" />
      <div className="absolute inset-x-0 bottom-0 h-[29px] border-t-[3px] border-ink bg-board" />
      {breakAt !== null && <ScaleBreak at={breakAt} free={work.filter((b) => !b.after).at(-1)} />}
      {postAt !== null && (
        <div className="absolute top-[50px] bottom-0 w-[3px] bg-ink" style={{ left: postAt }} />
      )}
      {last && last.width >= 84 && (
        <span
          className="num absolute bottom-1 z-10 bg-board pl-1 text-s font-medium"
          style={{ right: width - last.x - last.width + 4 }}
          title={`Everything has ended at ${last.steps.at(-1)?.end_clock}`}
        >
          → {last.steps.at(-1)?.end_clock}
        </span>
      )}
      {drawn.map((block) =>
        block.kind === "work" ? (
          <WorkBlock
            key={block.key}
            block={block}
            high={-26}
            now={block.steps.some((s) => s.id === current)}
            bare={block === last && block.width < TWO_CLOCKS}
          />
        ) : (
          <GateBlock
            key={block.key}
            block={block}
            next={isNext(block)}
            room={roomOf(block)}
            most={width - block.x}
            onDone={onDone}
          />
        ),
      )}
    </div>
  );
}
