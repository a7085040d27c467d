import { useMemo } from "react";
import { Link, useNavigate, useParams, useSearchParams } from "react-router";

import { useNight, useNights } from "../../api/hooks";
import { Button, PageHead, Trouble, Waiting } from "../../parts/basics";
import { useHere } from "../../parts/context";
import { FilterStamp } from "../../parts/FilterStamp";
import { SmallSpine } from "../../parts/Spine";
import { SaveLinks } from "../../parts/SaveLinks";
import { useKeys } from "../../parts/useKeys";
import { several } from "../../parts/several";
import { NameAFolder } from "../../parts/NameAFolder";
import { KeptLights } from "./KeptLights";
import { AddNight } from "./AddNight";
import { HandOver } from "./HandOver";
import { Months } from "./Months";
import { Notes, PartOrJoin, Weather, WhatWasShot } from "./NightLog";
import { Slip } from "./Slip";
import { NightList, NightPick } from "./NightList";
import { type LightSet, type Night, Timeline } from "./Timeline";

/** The columns of a set: on a phone its answers stand below one another. */
const ROW =
  "grid grid-cols-[64px_minmax(90px,1fr)_190px_92px_repeat(3,132px)] gap-x-2 border-t px-2 max-xl:grid-cols-[60px_minmax(70px,1fr)_160px_70px_repeat(3,100px)] max-md:grid-cols-[64px_minmax(0,1fr)_auto] max-md:gap-y-0.5 max-md:px-0";

const LINES = ["dark", "flat", "dark flat"];

function SetRow({ set, onOpen }: { set: LightSet; onOpen: () => void }) {
  return (
    <button
      type="button"
      data-set={set.id}
      onClick={onOpen}
      aria-label={`${set.target}, ${set.stamp}, ${set.text}: ${set.verdict}. Open the pull slip`}
      className={`${ROW} h-[37px] w-full items-center border-line text-left hover:bg-card max-md:h-auto max-md:min-h-14 max-md:py-2`}
    >
      <span>
        <FilterStamp code={set.stamp} nm={set.passband_nm} />
      </span>
      <span className="truncate">{set.target}</span>
      <span className="num text-s max-md:order-1 max-md:col-span-2">{set.text}</span>
      <span className="num text-s max-md:text-right">
        {set.kept} of {set.taken}
      </span>
      {set.calibrated && <span className="col-span-3 text-ink2 max-md:order-2">already calibrated</span>}
      {!set.calibrated &&
        LINES.map((kind) => {
          // Flats of the sky have a bias in the place of a dark flat.
          const bias = kind === "dark flat" ? set.marks.find((m) => m.kind === "bias") : undefined;
          const mark = set.marks.find((m) => m.kind === kind) ?? bias;
          if (!mark) return <span key={kind} className="max-md:hidden" />;
          const missing = mark.verdict === "nothing fits";
          if (mark.waits)
            return (
              <span key={kind} className="text-s text-ink2 max-md:order-2 max-md:col-span-3">
                <span className="md:hidden">{kind} </span>waits for the flat
              </span>
            );
          return (
            <span
              key={kind}
              className={`flex items-center gap-2 max-md:order-2 max-md:col-span-3 ${missing ? "font-semibold text-accent" : ""}`}
            >
              <SmallSpine step={mark.age_step ?? 0} care={mark.verdict === "fits with care"} gap={missing} />
              <span className="md:hidden">{kind}</span>
              {mark.kind === "bias" ? `bias ${mark.verdict}` : mark.verdict}
            </span>
          );
        })}
    </button>
  );
}

/** One night: its course, its conditions and notes, its sets of lights with their slips. */
function NightView({
  data,
  rig,
  open,
  onChoose,
  moved,
  onGone,
}: {
  data: Night;
  rig: number;
  open: number | null;
  onChoose: (id: number | null) => void;
  /** A night was parted or joined, which can be taken back. */
  moved: boolean;
  /** The night is not there any more, but the one that it went into, if any. */
  onGone: (into?: string) => void;
}) {
  return (
    <>
      {data.sets.length > 0 && <Timeline night={data} chosen={open} onChoose={onChoose} />}
      <div className="flex min-h-12 items-start gap-6 pb-2 max-md:flex-col max-md:gap-3">
        <dl className="flex gap-6 max-md:flex-wrap max-md:gap-x-5 max-md:gap-y-1">
          {data.conditions.map((c) => (
            <div key={c.name}>
              <dt className="narrow text-s text-ink2">{c.name}</dt>
              <dd className="num whitespace-nowrap">{c.text}</dd>
            </div>
          ))}
        </dl>
        <div className="flex min-h-9 flex-1 border-l border-rule pl-3 max-md:w-full">
          <Notes key={data.night} night={data} rig={rig} />
        </div>
      </div>
      <div className={`narrow ${ROW} border-rule py-1.5 text-s text-ink2 max-md:hidden`}>
        <span>Set</span>
        <span />
        <span>Lights</span>
        <span>Kept</span>
        <span>Dark</span>
        <span>Flat</span>
        <span>Dark flat</span>
      </div>
      {data.sets.map((set) =>
        set.id === open ? (
          <Slip key={set.id} id={set.id} onClose={() => onChoose(null)} />
        ) : (
          <SetRow key={set.id} set={set} onOpen={() => onChoose(set.id)} />
        ),
      )}
      {data.sets.length === 0 && (
        <p className="border-t border-line px-2 py-3 text-ink2">No lights in this night.</p>
      )}
      {data.without_target && (
        <p className="px-2 pt-2 text-s text-ink2">
          Some of these lights say no target:{" "}
          <Link className="underline" to="/intake/mend">
            say what they are of
          </Link>
          .
        </p>
      )}
      <div className="grid grid-cols-3 gap-8 pt-6 max-lg:grid-cols-1">
        <WhatWasShot night={data} />
        <Weather key={data.night} night={data} rig={rig} />
        <PartOrJoin key={`${data.night}:move`} night={data} rig={rig} moved={moved} onGone={onGone} />
      </div>
      {data.taken > 0 && (
        <div className="pt-6">
          <KeptLights rig={rig} night={data.night} />
        </div>
      )}
      {data.night_from && (
        <p className="px-2 pt-2 text-s text-ink2">How this date came about: {data.night_from}.</p>
      )}
    </>
  );
}

/** The page Nights: the list, one night, and the slips of its lights. */
export function Nights() {
  const { rig } = useHere();
  const nights = useNights(rig?.id ?? 0);
  const { night: wanted } = useParams();
  const [params, setParams] = useSearchParams();
  const navigate = useNavigate();
  const list = useMemo(() => nights.data?.nights ?? [], [nights.data]);
  const handing = params.has("hand");
  const months = params.has("months") && wanted === undefined;
  const shown = wanted ?? list[0]?.night;
  const night = useNight(rig?.id ?? 0, shown);
  const open = params.get("set") ? Number(params.get("set")) : null;
  const choose = (id: number | null) => setParams(id === null || id === open ? {} : { set: String(id) });
  const walk = (by: 1 | -1) => (event: KeyboardEvent) => {
    const next = list[list.findIndex((n) => n.night === shown) + by];
    if (!next || (event.target instanceof HTMLElement && event.target.dataset.set)) return false;
    return navigate(`/nights/${next.night}`);
  };
  useKeys({
    Escape: () => {
      if (open === null) return false;
      setParams({});
      requestAnimationFrame(() => document.querySelector<HTMLElement>(`[data-set="${open}"]`)?.focus());
      return true;
    },
    ArrowDown: walk(1),
    ArrowUp: walk(-1),
  });
  if (!rig || (nights.data && list.length === 0)) return <NoNights rig={rig?.name} />;
  if (nights.error && !nights.data)
    return (
      <div className="p-6">
        <Trouble error={nights.error} onRetry={() => void nights.refetch()} />
      </div>
    );
  if (!nights.data) return <Waiting what="Turning the pages" />;
  const data = night.data;
  return (
    <div className="px-6 pb-6 max-md:px-4">
      <PageHead title={months ? "Months at a glance" : (data?.title ?? "Nights")}>
        {data && !months && (
          <>
            <span className="text-ink2">
              {data.kept} of {several(data.taken, "light")} kept,{" "}
              {data.ready === data.kept ? "all" : data.ready} with all they need
            </span>
          </>
        )}
        <SaveLinks
          name="log"
          files={[
            { label: "nights", href: `/api/rigs/${rig.id}/log/nights.csv` },
            { label: "sets", href: `/api/rigs/${rig.id}/nights.csv` },
            { label: "frames", href: `/api/rigs/${rig.id}/log/frames.csv` },
            { label: "weather", href: `/api/rigs/${rig.id}/log/weather.csv` },
          ]}
        />
        {data && !months && data.sets.length > 0 && (
          <Button aria-pressed={handing} onClick={() => setParams(handing ? {} : { hand: "1" })}>
            {handing ? "Back to the night" : "Hand over"}
          </Button>
        )}
        <Button onClick={() => void navigate(months ? "/nights" : "/nights?months=1")}>
          {months ? "Night by night" : "Months at a glance"}
        </Button>
      </PageHead>
      <div className="flex gap-6">
        <div className="w-[200px] shrink-0 max-lg:hidden">
          <AddNight rig={rig.id} />
          <NightList list={list} shown={months ? undefined : shown} />
        </div>
        <div className="min-w-0 flex-1">
          <div className="flex items-center gap-3 mb-3 lg:hidden">
            <NightPick list={list} shown={months ? undefined : shown} />
            <div className="w-[212px] shrink-0 max-md:hidden">
              <AddNight rig={rig.id} />
            </div>
          </div>
          {months && <Months months={nights.data.months} />}
          {!months && night.error && !data ? (
            <Trouble error={night.error} onRetry={() => void night.refetch()} />
          ) : null}
          {!months && !data && !night.error && <Waiting what="Opening the night" />}
          {!months && data && handing && <HandOver key={shown} rig={rig.id} night={data} open={open} />}
          {!months && data && !handing && (
            <NightView
              data={data}
              rig={rig.id}
              open={open}
              onChoose={choose}
              moved={nights.data.moved}
              onGone={(into) => void navigate(into ? `/nights/${into}` : "/nights")}
            />
          )}
        </div>
      </div>
    </div>
  );
}

function NoNights({ rig }: { rig: string | undefined }) {
  return (
    <div className="px-6">
      <PageHead title="No nights yet" />
      <p className="max-w-[70ch] pb-5 text-ink2">
        {rig && `No lights of ${rig} are in the library. `}
        Once lights are read, their nights stand here: what was taken and kept, what fits it, and a log to
        write in.
      </p>
      <NameAFolder />
    </div>
  );
}
