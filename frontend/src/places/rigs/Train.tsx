import { Hand } from "lucide-react";

import type { Schemas } from "../../api/client";
import { Glyph, H, Rays, W, type Kind } from "./Glyphs";

type Rig = Schemas["RigOut"];
type Part = Schemas["PartOut"];

/** Who moves it, in a sign and a word. */
function Mover({ part }: { part: Part }) {
  if (!part.moved) return null;
  const hand = part.moved_by === "hand";
  return (
    <span className="inline-flex items-center gap-1 text-s whitespace-nowrap text-ink2">
      {hand && <Hand size={13} aria-hidden className="text-ink" />}
      {part.moved_by === "rig" && <span aria-hidden className="inline-block size-2 bg-ink" />}
      {part.moved}
    </span>
  );
}

/** What is known, by where it is from: 'headers 1,600 × 1,068, mono; gain 100'. */
function byOrigin(known: Part["known"]): [string, string][] {
  const found = new Map<string, string[]>();
  for (const { origin, text } of known) found.set(origin, [...(found.get(origin) ?? []), text]);
  return [...found].map(([origin, texts]) => [origin, texts.join("; ")]);
}

function Words({ part }: { part: Part }) {
  return (
    <span className="flex min-w-0 flex-col gap-0.5 text-left">
      <span className="flex items-baseline justify-between gap-2">
        <span className="narrow font-semibold">{part.title}</span>
        <Mover part={part} />
      </span>
      {part.name && <span className="truncate">{part.name}</span>}
      {byOrigin(part.known).map(([origin, text]) => (
        <span key={origin} className="text-s text-ink2">
          <span className="narrow font-semibold">{origin}</span> {text}
        </span>
      ))}
      {part.is_open && <span className="text-s text-accent">Nobody said: {part.hint}</span>}
    </span>
  );
}

/** Steps to the part on the left or right, as along a shelf. */
function step(event: React.KeyboardEvent<HTMLElement>) {
  const way = { ArrowRight: 1, ArrowDown: 1, ArrowLeft: -1, ArrowUp: -1 }[event.key];
  if (!way) return;
  event.preventDefault();
  const all = [...document.querySelectorAll<HTMLElement>("[data-part]")];
  all[all.indexOf(event.currentTarget) + way]?.focus();
}

interface Pulling {
  pulled: Kind | null;
  onPull: (kind: Kind) => void;
}

/** What makes a part one that is pulled: by a click, Enter, and walked to by arrows. */
const pulling = (part: Part, pulled: Kind | null, onPull: Pulling["onPull"]) =>
  ({
    type: "button",
    "data-part": part.kind,
    "aria-pressed": pulled === part.kind,
    onClick: () => onPull(part.kind),
    onKeyDown: step,
  }) as const;

function InTheLight({ part, data, pulled, onPull }: { part: Part; data: Rig } & Pulling) {
  const codes = [
    ...data.sheets.filters.filters.map((f) => ({ code: f.code, nm: f.centre_nm ?? null })),
    ...data.seen_filters.map((f) => ({ code: f.code, nm: null })),
  ];
  return (
    <button
      {...pulling(part, pulled, onPull)}
      className="group flex min-w-0 flex-col max-md:min-h-11 max-md:flex-row max-md:items-center max-md:gap-3 max-md:border-b max-md:border-line max-md:py-2"
    >
      <svg
        viewBox={`0 0 ${W} ${H}`}
        className={`block w-full max-md:w-20 max-md:shrink-0 ${pulled === part.kind ? "bg-card" : "group-hover:bg-card"}`}
        aria-hidden
      >
        <Rays kind={part.kind} />
        <Glyph part={part} codes={codes} bare={(data.sheets.light?.diffusers ?? []).length === 0} />
      </svg>
      <span
        className={`block w-full border-t-2 px-2 pt-1.5 pb-1 max-md:border-t-0 max-md:px-0 ${pulled === part.kind ? "border-ink bg-card" : "border-line"}`}
      >
        <Words part={part} />
      </span>
    </button>
  );
}

/** Mount and site, on which the rest stands. */
function Below({ part, pulled, onPull }: { part: Part } & Pulling) {
  return (
    <button
      {...pulling(part, pulled, onPull)}
      className={`flex min-h-9 min-w-0 flex-1 items-center gap-3 border px-3 py-1 text-left hover:bg-card max-md:min-h-11 ${pulled === part.kind ? "border-ink bg-card" : part.is_open ? "border-dashed border-accent" : "border-line"}`}
    >
      <span className="narrow font-semibold">{part.title}</span>
      {part.name && <span className="truncate">{part.name}</span>}
      <span className="truncate text-s text-ink2">{part.known.map((k) => k.text).join(", ")}</span>
      {part.is_open && <span className="truncate text-s text-accent">Nobody said: {part.hint}</span>}
      <span className="ml-auto">
        <Mover part={part} />
      </span>
    </button>
  );
}

const STANDS: Kind[] = ["mount", "site"];

/** The train: its parts in the order in which light meets them; below it what it stands on. */
export function Train({ data, ...pull }: { data: Rig } & Pulling) {
  const inLight = data.parts.filter((p) => !STANDS.includes(p.kind));
  return (
    <section aria-label={`The train of ${data.name}`}>
      <div className="grid grid-cols-7 items-stretch max-md:grid-cols-1">
        {inLight.map((part) => (
          <InTheLight key={part.kind} part={part} data={data} {...pull} />
        ))}
      </div>
      <div className="mt-2 flex gap-3 max-md:flex-col">
        {data.parts
          .filter((p) => STANDS.includes(p.kind))
          .map((part) => (
            <Below key={part.kind} part={part} {...pull} />
          ))}
      </div>
    </section>
  );
}
