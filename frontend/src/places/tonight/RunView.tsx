import { useState, type ReactNode } from "react";
import { Link } from "react-router";

import { api, get, type Schemas } from "../../api/client";
import { useAnswer, useChange, useJobAction } from "../../api/hooks";
import { Bar, Button, ColumnHead, Key, PageHead, Trouble } from "../../parts/basics";
import { useHere } from "../../parts/context";
import { FilterStamp } from "../../parts/FilterStamp";
import { GateButtons } from "../../parts/Gate";
import { Ruler } from "../../parts/Ruler";
import { useKeys } from "../../parts/useKeys";
import { several } from "../../parts/several";
import { filterName } from "../../parts/filterName";
import { DemoPace } from "./DemoPace";
import { HandView } from "./HandView";
import { PhoneList } from "./PhoneList";
import { ToCome } from "./ToCome";
import { TimeLine } from "./TimeLine";
import { SearchView, SeriesView } from "./RunSearch";

type RunData = Schemas["RunOut"];

function Found({ run, onLook }: { run: RunData; onLook: (id: number) => void }) {
  const seen = new Map(run.searches.map((s) => [s.filter_code, s]));
  return (
    <section>
      <ColumnHead>What was found</ColumnHead>
      <table className="w-full">
        <tbody>
          {[...seen.values()].map((search) => (
            <tr key={search.step_id} className="border-b border-line">
              <td className="py-1.5">
                <button
                  type="button"
                  onClick={() => onLook(search.step_id)}
                  aria-label={`Look at the search in ${filterName(search.filter_code)}`}
                >
                  <FilterStamp code={search.filter_code} nm={search.passband_nm} />
                </button>
              </td>
              <td className="num text-right font-medium">{search.found ?? "–"}</td>
              <td className="pl-3">
                {search.came_out ? <Ruler ruler={search.came_out} width={64} /> : null}
              </td>
              <td className="text-right text-s text-ink2">
                {search.shots.length} {search.shots.length === 1 ? "shot" : "shots"}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {seen.size === 0 && <p className="py-2 text-ink2">No exposure was looked for yet.</p>}
    </section>
  );
}

/** What was found, what goes on or comes next, and what is on the shelf now. */
function Summary({ run, alive, onLook }: { run: RunData; alive: boolean; onLook: (id: number) => void }) {
  const current = run.steps.find((s) => s.id === run.current);
  return (
    <>
      {run.steps.some((s) => s.kind === "find") && <Found run={run} onLook={onLook} />}
      <section>
        {run.job.troubles.length > 0 && (
          <div className="mb-3 border-l-4 border-accent bg-card px-4 py-2" role="alert">
            <p className="font-semibold">Not all of it came to its end.</p>
            <ul>
              {run.job.troubles.map((trouble) => (
                <li key={trouble}>{trouble}</li>
              ))}
            </ul>
          </div>
        )}
        {run.afterwards.length > 0 && (
          <>
            <ColumnHead>Now</ColumnHead>
            <ul>
              {run.afterwards.map((line) => (
                <li key={line} className="border-b border-line py-1.5">
                  {line}
                </li>
              ))}
            </ul>
          </>
        )}
        {alive && (
          <>
            <ColumnHead>In work</ColumnHead>
            <p className="py-2">{run.job.message || current?.title}</p>
            <Bar share={run.job.progress} label="The run" />
          </>
        )}
      </section>
      <section>{run.job.state === "done" && <OnShelf run={run} />}</section>
    </>
  );
}

const SHOT_ALONE = new Set(["darks", "bias"]);

/** What a run brought. */
function OnShelf({ run }: { run: RunData }) {
  const { state } = useHere();
  const shot = run.steps.filter(
    (step) => step.state === "done" && (step.kind === "flats" ? step.filter_code : SHOT_ALONE.has(step.kind)),
  );
  const flats = shot.some((step) => step.kind === "flats");
  return (
    <>
      <ColumnHead>Now on the shelf</ColumnHead>
      <ul>
        {shot.map((step) => (
          <li key={step.id} className="flex items-center gap-3 border-b border-line py-1.5">
            {step.kind === "flats" ? (
              <>
                <FilterStamp code={step.filter_code ?? ""} nm={step.passband_nm} />
                {several(step.done, "flat")} for {several(step.lights, "light")}
              </>
            ) : (
              step.title
            )}
          </li>
        ))}
      </ul>
      <p className="py-2">
        They stand on the{" "}
        <Link className="underline" to={flats ? "/shelf?wall=flats" : "/shelf"}>
          shelf
        </Link>
        ; the slips are in{" "}
        <Link className="underline" to={`/nights/${state.night}`}>
          tonight’s log
        </Link>
        .
      </p>
    </>
  );
}

/** What can be done with a run: answer, pause, stop, go on, put it away. */
function useRunActions(
  run: RunData,
  gate: RunData["steps"][number] | undefined,
  changing: boolean,
  setChanging: (on: boolean) => void,
) {
  const act = useJobAction();
  const answer = useAnswer();
  const away = useChange(() =>
    get(api.POST("/api/runs/{job_id}/put-away", { params: { path: { job_id: run.job.id } } })),
  );
  const { job } = run;
  const paused = job.state === "paused";
  const can = { pause: job.can_pause || paused, stop: job.can_stop };
  const pause = () => act.mutate({ id: job.id, action: paused ? "go-on" : "pause" });
  const buttons = (
    <>
      {gate?.gate && <GateButtons gate={gate.gate} answer={answer} />}
      {can.pause && (
        <Button large onClick={pause}>
          {paused ? "Go on" : "Pause"}{" "}
          <span className="max-md:hidden">
            <Key>Space</Key>
          </span>
        </Button>
      )}
      {can.stop && (
        <Button large aria-pressed={changing} onClick={() => setChanging(!changing)}>
          {changing ? "Back to the frames" : "What comes"}
        </Button>
      )}
      {can.stop && (
        <Button large onClick={() => act.mutate({ id: job.id, action: "stop" })}>
          Stop here
        </Button>
      )}
      {job.can_resume && (
        <Button look="accent" large onClick={() => act.mutate({ id: job.id, action: "resume" })}>
          Go on from there
        </Button>
      )}
      {!can.stop && (
        <Button look={job.state === "done" ? "accent" : "plain"} large onClick={() => away.mutate(undefined)}>
          {job.state === "done" ? "Close the run" : "Close it and make a new sheet"}
        </Button>
      )}
    </>
  );
  return { can, pause, buttons, answer, errors: [answer.error, act.error, away.error] };
}

/** The headline of a run, on a wide screen. */
function RunHead({ run, wants, buttons }: { run: RunData; wants: boolean; buttons: ReactNode }) {
  return (
    <div className="max-md:hidden">
      <PageHead title={wants ? <span className="text-accent">{run.headline}</span> : run.headline}>
        <span className="num text-ink2">now {run.clock}</span>
        {run.sensor && (
          <span className="flex items-center gap-2 text-ink2">
            sensor <Ruler ruler={run.sensor} width={64} />
          </span>
        )}
        {buttons}
      </PageHead>
      <p className="flex min-h-5 items-center justify-between gap-6">
        <span>{run.subline}</span>
        <DemoPace />
      </p>
    </div>
  );
}

/** Tonight while a run goes on, and after it. */
export function RunView({ run }: { run: RunData }) {
  const [looked, setLooked] = useState<number | null>(null);
  const current = run.steps.find((s) => s.id === run.current);
  const gate = current?.state === "waiting" ? current : undefined;
  const [changing, setChanging] = useState(false);
  const { can, pause, buttons, answer, errors } = useRunActions(run, gate, changing, setChanging);
  const searches = run.searches;
  const at = searches.findIndex((s) => s.step_id === looked);
  const from = at >= 0 ? at : searches.length;
  useKeys({
    " ": (event) => {
      const onControl = event.target instanceof HTMLElement && event.target.matches("input, button, a");
      if (onControl || !can.stop || !can.pause) return false;
      pause();
      return true;
    },
    "[": () => setLooked(searches[Math.max(0, from - 1)]?.step_id ?? null),
    "]": () => setLooked(searches[from + 1]?.step_id ?? null),
    Escape: () => setLooked(null),
  });
  const ofRow = searches.filter((s) => s.filter_code === current?.filter_code).at(-1) ?? null;
  const search =
    searches[at] ?? (can.stop ? run.search : null) ?? (run.series && can.stop ? null : gate && ofRow);
  if (run.by_hand && can.stop)
    return (
      <div className="px-6 pb-6 max-md:px-4">
        <div className="flex min-h-[52px] flex-wrap items-center justify-between gap-x-6 gap-y-2 py-2">
          <h1 className="text-xxl font-semibold max-md:text-xl" style={{ fontStretch: "88%" }}>
            {run.headline}
          </h1>
          <span className="flex gap-3 print:hidden">{buttons}</span>
        </div>
        {gate && <p className="max-w-[72ch] text-l">{run.subline}</p>}
        {errors.map((error, index) => (error ? <Trouble key={index} error={error} /> : null))}
        {changing ? (
          <ToCome run={run} />
        ) : (
          <HandView run={run}>{search && <SearchView search={search} />}</HandView>
        )}
      </div>
    );
  return (
    <div className="flex flex-col px-6 pb-4 max-md:px-4 md:h-full">
      <RunHead run={run} wants={gate !== undefined} buttons={buttons} />
      {errors.map((error, index) => (error ? <Trouble key={index} error={error} /> : null))}
      <div className="pt-2 max-md:hidden">
        <TimeLine
          steps={run.steps}
          current={run.current}
          running
          onDone={(gate) => answer.mutate({ gate, say: "done" })}
        />
      </div>
      <PhoneList
        wants={gate !== undefined}
        headline={run.headline}
        sub={run.subline}
        steps={run.steps}
        current={run.current}
        action={buttons}
      />
      <div
        className="grid grid-cols-[1.25fr_1fr_0.9fr] gap-7 pt-4 max-md:grid-cols-1 md:min-h-0 md:flex-1"
        aria-live="polite"
      >
        {changing && can.stop ? (
          <ToCome run={run} />
        ) : search ? (
          <SearchView search={search} />
        ) : run.series && can.stop ? (
          <SeriesView series={run.series} search={ofRow} />
        ) : (
          <Summary run={run} alive={can.stop} onLook={setLooked} />
        )}
      </div>
    </div>
  );
}
