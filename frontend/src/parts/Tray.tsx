import { useEffect, useState } from "react";

import { useJobAction, useJobs } from "../api/hooks";
import { Bar, Button } from "./basics";
import { askToBeCalled, callFor, isCalledFor, thisPage } from "./callForHand";
import type { Schemas } from "../api/client";

type Job = Schemas["JobOut"];

const STATE: Record<string, string> = {
  queued: "waits its turn",
  running: "",
  paused: "paused",
  waiting: "waits for you",
  interrupted: "interrupted",
  done: "done",
  stopped: "stopped",
  failed: "failed",
};

function left(seconds: number | null): string {
  if (seconds === null) return "";
  if (seconds < 90) return `${Math.max(1, Math.round(seconds))}\u2009s left`;
  return `${Math.round(seconds / 60)}\u2009min left`;
}

function Work({ job }: { job: Job }) {
  const act = useJobAction();
  const wants = ["waiting", "interrupted", "failed"].includes(job.state);
  return (
    <li className="border-t border-line py-3">
      <p className="font-semibold break-words">{job.title}</p>
      {job.state !== "done" && (
        <div className="my-1.5">
          <Bar share={job.progress} label={job.title} />
        </div>
      )}
      <p className={`text-s break-words ${wants ? "text-accent" : "text-ink2"}`}>
        {[STATE[job.state], job.message, job.state === "running" ? left(job.seconds_left) : ""]
          .filter(Boolean)
          .join(". ")}
        {wants && job.advice ? ` ${job.advice}` : ""}
      </p>
      <div className="mt-2 flex gap-2 empty:hidden">
        {job.can_pause && (
          <Button
            onClick={() => act.mutate({ id: job.id, action: job.state === "paused" ? "go-on" : "pause" })}
          >
            {job.state === "paused" ? "Go on" : "Pause"}
          </Button>
        )}
        {job.can_stop && <Button onClick={() => act.mutate({ id: job.id, action: "stop" })}>Stop</Button>}
        {job.can_resume && (
          <Button onClick={() => act.mutate({ id: job.id, action: "resume" })}>Go on from there</Button>
        )}
      </div>
    </li>
  );
}

/** Whether this browser calls when a hand is needed; it is asked for by a touch, since no page may sound before. */
function CallMe() {
  const [on, setOn] = useState(isCalledFor);
  const [said, setSaid] = useState("");
  return (
    <div className="mt-4 border-t border-line pt-3">
      <label className="flex items-center gap-2 max-md:min-h-11">
        <input
          type="checkbox"
          className="accent-[var(--ink)]"
          checked={on}
          onChange={(event) => {
            setOn(event.target.checked);
            void askToBeCalled(event.target.checked).then(setSaid, () =>
              setSaid("This browser gives no sound."),
            );
          }}
        />
        Call me when a hand is needed
      </label>
      <p className="text-s text-ink2" role="status">
        {said || "With a sound and a note of the browser, and again each minute until it is answered."}
      </p>
    </div>
  );
}

type Opens = { open: boolean; onToggle: () => void };

function useAlive() {
  const alive = useJobs().data?.alive ?? [];
  return { alive, wants: alive.some((job) => ["waiting", "interrupted"].includes(job.state)) };
}

/** What opens and closes the drawer: a tab at the right edge; on a phone, where that would lie over the page, beside the places. */
export function TrayTab({ open, onToggle, look }: Opens & { look: string }) {
  const { alive, wants } = useAlive();
  return (
    <button
      type="button"
      aria-expanded={open}
      onClick={onToggle}
      title="Work in progress ( . )"
      className={`font-semibold ${look} ${wants ? "border-accent bg-accent text-accent-text" : "border-rule bg-board"}`}
    >
      Work{alive.length > 0 ? ` ${alive.length}` : ""}
    </button>
  );
}

/** Work in progress wherever one is: a tab, and a drawer behind it. */
export function Tray({ open, onToggle }: Opens) {
  const ended = useJobs().data?.ended ?? [];
  const { alive } = useAlive();
  const waiting = alive.find((job) => job.state === "waiting");
  const waits = waiting ? waiting.message || waiting.title : "";
  useEffect(() => callFor(waits, thisPage), [waits]);
  return (
    <aside
      aria-label="Work in progress"
      className={`fixed top-14 right-0 bottom-0 z-20 flex items-center max-md:top-12 max-md:bottom-12 ${open ? "" : "pointer-events-none"}`}
    >
      <TrayTab
        open={open}
        onToggle={onToggle}
        look="pointer-events-auto -mr-px flex h-[84px] w-5 items-center justify-center rounded-l-sm border border-r-0 text-s [writing-mode:vertical-rl] max-md:hidden"
      />
      {open && (
        <div className="pointer-events-auto h-full w-[300px] overflow-auto border-l border-rule bg-card px-4 py-4 max-md:w-[280px]">
          <h2 className="pb-2 text-l font-semibold">In progress</h2>
          {alive.length === 0 && <p className="border-t border-line py-3 text-ink2">Nothing is going on.</p>}
          <ul>
            {alive.map((job) => (
              <Work key={job.id} job={job} />
            ))}
          </ul>
          {ended.length > 0 && <h2 className="pt-4 pb-2 text-l font-semibold">Ended</h2>}
          <ul>
            {ended.map((job) => (
              <Work key={job.id} job={job} />
            ))}
          </ul>
          <CallMe />
        </div>
      )}
    </aside>
  );
}
