import { useCallback, useState } from "react";
import { Link, useSearchParams } from "react-router";

import type { Schemas } from "../../api/client";
import { useShelf } from "../../api/hooks";
import { Button, HeadChoice, Key, PageHead, Segments, Trouble, Waiting } from "../../parts/basics";
import { putOnSheet, useHere } from "../../parts/context";
import { FilterStamp } from "../../parts/FilterStamp";
import { SmallSpine, Spine } from "../../parts/Spine";
import { Card } from "./Card";
import { Wall } from "./Wall";
import { several } from "../../parts/several";
import { NameAFolder } from "../../parts/NameAFolder";

type GapData = Schemas["GapOut"];

function GapNote({ gap, marked }: { gap: GapData; marked: boolean }) {
  const { setWishes } = useHere();
  const waits = `${several(gap.lights, "light")} of ${gap.targets.join(" and ")} ${gap.lights === 1 ? "waits" : "wait"}, ${gap.nights}.`;
  const what = gap.kind === "flat" ? `${gap.frames} flats` : `${gap.frames} frames`;
  return (
    <li className={`border bg-card px-3.5 py-2.5 ${marked ? "border-accent" : "border-line"}`}>
      <p className="flex items-center gap-2 text-m font-semibold">
        <SmallSpine gap step={0} />
        <span>
          {gap.kind === "flat" ? "Flats" : gap.title}
          {gap.filter_code && (
            <>
              {" "}
              <FilterStamp code={gap.filter_code} />
            </>
          )}
          {gap.kind === "flat" ? gap.title.replace("Flats", "") : gap.gain_text && `, ${gap.gain_text}`}
        </span>
      </p>
      <p className="pt-1 text-ink2">
        {waits} {gap.takes && `${what} take ${gap.takes}.`}
      </p>
      <div className="pt-2">
        {gap.offer === null ? (
          <p className="text-s text-ink2">
            Tonight’s sheet cannot close it. On the shelf: {gap.nearest.replace("none on the shelf", "none")}.
          </p>
        ) : gap.on_sheet ? (
          <Link to="/tonight" className="font-semibold underline underline-offset-2">
            On tonight’s sheet
          </Link>
        ) : (
          <>
            {gap.against && (
              <p className="pb-2 text-ink2">Shot now they would not surely fit: {gap.against}.</p>
            )}
            <Button
              look={gap.against ? "plain" : "accent"}
              onClick={() => setWishes((w) => putOnSheet(w, gap.offer ?? "", true))}
            >
              Put {what} on tonight’s sheet
            </Button>
          </>
        )}
      </div>
    </li>
  );
}

function Legend() {
  return (
    <div className="flex shrink-0 flex-wrap items-center gap-x-8 gap-y-1 py-1 text-s whitespace-nowrap text-ink2 md:h-9 md:flex-nowrap md:overflow-hidden md:py-0">
      <span className="flex items-end gap-2">
        <span aria-hidden className="flex items-end gap-0.5">
          {[10, 15, 22].map((h) => (
            <span key={h} className="w-2 bg-ink" style={{ height: h }} />
          ))}
        </span>
        taller: more frames
      </span>
      <span className="flex items-center gap-2">
        <span aria-hidden className="flex gap-0.5">
          {[0, 1, 2, 3, 4, 5, 6].map((step) => (
            <span
              key={step}
              className="h-5 w-2"
              style={{ background: `var(--age-${step})`, boxShadow: "inset 0 0 0 1px var(--rule)" }}
            />
          ))}
        </span>
        paler: older, new to a year
      </span>
      <span className="flex items-center gap-2">
        <SmallSpine step={2} care /> hatched: use with care
      </span>
      <span className="flex items-center gap-2">
        <SmallSpine gap step={0} /> dashed: asked for, not made
      </span>
      <span className="ml-auto flex items-center gap-2 max-xl:hidden">
        <Key>← → ↑ ↓</Key> walk the shelf <Key>Enter</Key> pulls
      </span>
    </div>
  );
}

function EmptyShelf() {
  const { state } = useHere();
  const steps: [string, string][] = [
    [
      "Say where you image",
      "In Intake, set the time zone of your site: nights are counted noon to noon by its clock.",
    ],
    [
      "Name a folder of frames",
      "It is read in place; nothing in it is moved or changed. Masters and raw frames are both welcome.",
    ],
    [
      "Come back here",
      "Masters stand on the shelf as spines. What your lights ask for and nobody has made is a gap.",
    ],
  ];
  return (
    <div className="px-6">
      <PageHead title="An empty shelf" />
      <div className="relative mt-2 h-[208px] border-b-[3px] border-ink bg-card">
        <div className="absolute bottom-0 left-8 flex items-end gap-2" aria-hidden>
          {[150, 118, 150, 92].map((height, index) => (
            <svg key={index} width="44" height={height}>
              <path
                d={`M1 ${height}V1H43V${height}`}
                fill="none"
                stroke={index === 0 ? "var(--accent)" : "var(--line)"}
                strokeWidth="2"
                strokeDasharray="6 4"
              />
            </svg>
          ))}
        </div>
        <ol className="absolute inset-y-0 right-0 left-[280px] grid grid-cols-3 items-center gap-8 pr-8">
          {steps.map(([title, text], index) => (
            <li key={title}>
              <p className="text-l font-semibold">
                <span className="num pr-2">{index + 1}</span>
                {title}
              </p>
              <p className="pt-1 text-ink2">{text}</p>
            </li>
          ))}
        </ol>
      </div>
      <div className="h-6 bg-board" />
      <div className="flex items-center gap-4 pt-6">
        <NameAFolder />
        {!state.demo && (
          <p className="text-ink2">
            Or try it on invented frames first: <span className="num">make demo</span> keeps them apart from
            your own.
          </p>
        )}
      </div>
    </div>
  );
}

type ShelfData = Schemas["ShelfOut"];

/** What lights ask for and nobody has made, and the bias below it. */
function Beside({
  data,
  gain,
  marked,
  pulled,
  onPull,
}: {
  data: ShelfData;
  gain: number | null;
  marked: string | null;
  pulled: number | null;
  onPull: (id: number) => void;
}) {
  const ordered = [...data.gaps].sort(
    (a, b) =>
      Number(b.key === marked) - Number(a.key === marked) ||
      Number(b.offer !== null) - Number(a.offer !== null) ||
      b.lights - a.lights,
  );
  return (
    <aside className="flex w-[264px] shrink-0 flex-col gap-3 max-lg:w-full max-lg:pt-3">
      <ul className="flex min-h-0 flex-1 flex-col gap-3 overflow-auto" aria-label="Gaps">
        {ordered.map((gap) => (
          <GapNote key={gap.key} gap={gap} marked={gap.key === marked} />
        ))}
        {data.no_bias && <li className="text-ink2">{data.no_bias}</li>}
        {ordered.length === 0 && !data.no_bias && (
          <li className="text-ink2">Nothing that your lights ask for is missing.</li>
        )}
      </ul>
      {data.bias.length > 0 && (
        <div>
          <div className="flex h-[160px] items-end gap-1.5 overflow-x-auto bg-card px-3" aria-label="Bias">
            {data.bias
              .filter((s) => gain === null || s.gain === gain)
              .map((spine) => (
                <Spine
                  key={spine.id}
                  spine={spine}
                  width={44}
                  scale={0.85}
                  pulled={pulled === spine.id}
                  tabIndex={0}
                  onPull={() => onPull(spine.id)}
                />
              ))}
          </div>
          <div className="flex h-[26px] items-center border-t-[3px] border-ink bg-board px-3">
            <span className="narrow bg-card px-1.5 text-s font-semibold">Bias</span>
          </div>
        </div>
      )}
    </aside>
  );
}

/** Which wall is looked at, and for which gain. */
function ShelfHead({
  data,
  rig,
  wall,
  onWall,
  gain,
  onGain,
}: {
  data: ShelfData;
  rig: number;
  wall: "darks" | "flats";
  onWall: (wall: "darks" | "flats") => void;
  gain: number | null;
  onGain: (gain: number | null) => void;
}) {
  return (
    <PageHead
      title={
        <HeadChoice
          options={[
            { value: "darks", label: "Darks" },
            { value: "flats", label: "Flats" },
          ]}
          value={wall}
          onChange={onWall}
        />
      }
    >
      <span className="text-ink2 max-md:hidden">{data.about}</span>
      {data.gains.length > 1 && (
        <Segments
          label={data.gain_word}
          value={gain === null ? "all" : String(gain)}
          options={[
            { value: "all", label: `every ${data.gain_word}` },
            ...data.gains.map((g) => ({ value: String(g), label: String(g) })),
          ]}
          onChange={(value) => onGain(value === "all" ? null : Number(value))}
        />
      )}
      <a className="underline underline-offset-2" href={`/api/rigs/${rig}/shelf.csv`}>
        CSV
      </a>
    </PageHead>
  );
}

/** What is pulled, in the address, so that a link leads to it. */
function usePulled() {
  const [params, setParams] = useSearchParams();
  const [near, setNear] = useState(640);
  const pulled = params.get("pull") ? Number(params.get("pull")) : null;
  const change = useCallback(
    (name: string, value: string | null) =>
      setParams((old) => {
        const next = new URLSearchParams(old);
        if (value === null) next.delete(name);
        else next.set(name, value);
        return next;
      }),
    [setParams],
  );
  const close = useCallback(() => {
    const id = new URLSearchParams(location.search).get("pull");
    change("pull", null);
    document.querySelector<HTMLElement>(`[data-spine="${id}"]`)?.focus();
  }, [change]);
  const pull = (id: number) => {
    const slab = document.querySelector<HTMLElement>(`[data-spine="${id}"]`);
    setNear(slab ? slab.getBoundingClientRect().left : 640);
    change("pull", pulled === id ? null : String(id));
  };
  const wall: "darks" | "flats" = params.get("wall") === "flats" ? "flats" : "darks";
  return { wall, setWall: (value: string) => change("wall", value), pulled, near, pull, close };
}

/** The page Shelf: the drawn library, and what is missing from it. */
export function Shelf() {
  const { rig, wishes } = useHere();
  const shelf = useShelf(rig?.id ?? 0, wishes);
  const { wall, setWall, pulled, near, pull, close } = usePulled();
  const [gain, setGain] = useState<number | null>(null);
  const [marked, setMarked] = useState<string | null>(null);
  if (!rig) return <EmptyShelf />;
  if (shelf.error && !shelf.data)
    return (
      <div className="p-6">
        <Trouble error={shelf.error} onRetry={() => void shelf.refetch()} />
      </div>
    );
  if (!shelf.data) return <Waiting what="Looking along the shelf" />;
  const data = shelf.data;
  if (data.empty) return <EmptyShelf />;
  const shown = wall === "darks" ? data.darks : data.flats;
  return (
    <div className="flex h-full flex-col px-6 max-lg:h-auto max-lg:pb-4 max-md:px-4">
      <ShelfHead data={data} rig={rig.id} wall={wall} onWall={setWall} gain={gain} onGain={setGain} />
      <div className="flex min-h-0 flex-1 gap-7 pt-1 max-lg:flex-none max-lg:flex-col">
        <div className="min-w-0 flex-1">
          {shown.columns.length === 0 || shown.rows.length === 0 ? (
            <p className="border-b-[3px] border-ink bg-card p-6 text-ink2">
              {wall === "darks"
                ? "No dark of this camera is on the shelf, and no lights ask for one."
                : "No flat of this telescope is on the shelf, and no lights ask for one."}
            </p>
          ) : (
            <Wall
              wall={shown}
              kind={wall}
              gain={gain}
              pulled={pulled}
              onPull={pull}
              onPickGap={(key) => setMarked(key)}
            />
          )}
        </div>
        <Beside data={data} gain={gain} marked={marked} pulled={pulled} onPull={pull} />
      </div>
      <Legend />
      {pulled !== null && <Card key={pulled} id={pulled} near={near} onClose={close} />}
    </div>
  );
}
