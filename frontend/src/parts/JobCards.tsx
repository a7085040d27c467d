import type { ReactNode } from "react";

import type { Schemas } from "../api/client";
import { useJobAction } from "../api/hooks";
import { Bar, Button, ColumnHead, Trouble } from "./basics";

type Job = Schemas["JobOut"];

/** Stop what goes on. */
export function StopButton({ job }: { job: Job }) {
  const act = useJobAction();
  return (
    <Button large onClick={() => act.mutate({ id: job.id, action: "stop" })}>
      Stop
    </Button>
  );
}

/** What goes on, told where it was begun: how far it is, with the ways to stop it and to go on. */
export function JobHere({ job, doing }: { job: Job; doing: string }) {
  const act = useJobAction();
  return (
    <div className="flex flex-col items-start gap-1 pt-2" role="status">
      <Bar share={job.progress} label={job.title} />
      <p className="text-s text-ink2">{job.message}</p>
      {job.can_stop && (
        <Button onClick={() => act.mutate({ id: job.id, action: "stop" })}>Stop {doing}</Button>
      )}
      {job.can_resume && (
        <Button onClick={() => act.mutate({ id: job.id, action: "resume" })}>Go on {doing}</Button>
      )}
      {act.error && <Trouble error={act.error} />}
    </div>
  );
}

/** How far it is, what it does, and the ways to pause and to stop it. */
export function JobBar({ job, title, children }: { job: Job; title: ReactNode; children?: ReactNode }) {
  const act = useJobAction();
  return (
    <section aria-live="polite">
      <ColumnHead note={job.state === "paused" ? "paused" : `${Math.round(job.progress * 100)} %`}>
        {title}
      </ColumnHead>
      <div className="py-2">
        <Bar share={job.progress} label={job.title} />
      </div>
      <p className="min-h-10">{children}</p>
      <div className="flex gap-2 pt-1">
        {job.can_pause && (
          <Button
            large
            onClick={() => act.mutate({ id: job.id, action: job.state === "paused" ? "go-on" : "pause" })}
          >
            {job.state === "paused" ? "Go on" : "Pause"}
          </Button>
        )}
        <StopButton job={job} />
      </div>
    </section>
  );
}

/** What did not come to its end, why, and the way on. */
export function JobCutShort({ job, what }: { job: Job; what: string }) {
  const act = useJobAction();
  return (
    <section className="border-l-4 border-accent bg-card px-4 py-2" role="alert">
      <p>
        <b className="font-semibold">
          {job.state === "stopped" ? `${what} was stopped. ` : `${what} did not come to its end. `}
        </b>
        {job.message.replace(/[^.!?]$/, "$&.")} {job.advice}
      </p>
      {job.can_resume && (
        <Button className="mt-1" onClick={() => act.mutate({ id: job.id, action: "resume" })}>
          Go on from there
        </Button>
      )}
      {act.error && <Trouble error={act.error} />}
    </section>
  );
}
