import type { ReactNode } from "react";

import { api, get, type Schemas } from "../../../api/client";
import { useChange, useJobAction } from "../../../api/hooks";
import { Bar, Button, ColumnHead, Trouble } from "../../../parts/basics";
import { GateSign } from "../../tonight/Gate";

type Sheet = Schemas["FlatSheetOut"];
type Job = Schemas["JobOut"];
export type Answer = "done" | "leave out";

/** Stop what goes on. */
export function StopButton({ job }: { job: Job }) {
  const act = useJobAction();
  return (
    <Button large onClick={() => act.mutate({ id: job.id, action: "stop" })}>
      Stop
    </Button>
  );
}

/** What a hand has to do, and the answer when it is done. */
export function GateCard({
  gate,
  job,
  answer,
}: {
  gate: Schemas["SearchGate"];
  job: Job;
  answer: { mutate: (say: Answer) => void; isPending: boolean; error: unknown };
}) {
  return (
    <section className="border-l-4 border-accent bg-card px-4 py-3" aria-live="polite">
      <div className="flex items-start gap-4">
        <span className="text-accent">
          <GateSign gate={gate.sign} flat />
        </span>
        <div>
          <h2 className="text-xl font-semibold text-accent">{gate.title}</h2>
          <p className="py-1">{gate.advice}</p>
        </div>
      </div>
      <div className="flex flex-wrap gap-2 pt-2">
        <Button look="accent" large disabled={answer.isPending} onClick={() => answer.mutate("done")}>
          {gate.answer}
        </Button>
        {gate.leave_out && (
          <Button large disabled={answer.isPending} onClick={() => answer.mutate("leave out")}>
            {gate.leave_out}
          </Button>
        )}
        <StopButton job={job} />
      </div>
      {answer.error ? <Trouble error={answer.error} /> : null}
    </section>
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

/** What goes on: the gate, the line for somebody at the camera's own program, the progress, stop and go on. */
export function Going({ data, rig, next }: { data: Sheet; rig: number; next: string }) {
  const answer = useChange((say: Answer) =>
    get(
      api.POST("/api/rigs/{rig_id}/flats/answer", {
        params: { path: { rig_id: rig } },
        body: { answer: say },
      }),
    ),
  );
  const skip = useChange((key: Schemas["FlatKeyIn"]) =>
    get(api.POST("/api/rigs/{rig_id}/flats/skip", { params: { path: { rig_id: rig } }, body: key })),
  );
  const job = data.job;
  if (!job) return null;
  if (data.gate) return <GateCard gate={data.gate} job={job} answer={answer} />;
  if (data.next) {
    const now = data.searching;
    return (
      <section className="border-l-4 border-accent bg-card px-4 py-3" aria-live="polite">
        <h2 className="text-xxl leading-tight font-semibold text-accent" style={{ fontStretch: "88%" }}>
          {data.next.line}
        </h2>
        <p className="pt-1 text-l">{data.next.detail}</p>
        {data.next.refused.map((item) => (
          <p key={item.name} className="mt-2 border-l-4 border-rule pl-3" role="alert">
            <b className="num font-semibold break-all">{item.name}</b> {item.why}
          </p>
        ))}
        <p className="pt-2 text-s text-ink2">
          {data.next.why && <span className="block">Why: {data.next.why}.</span>}
          Watching <span className="num break-all">{data.next.folder}</span>
        </p>
        <div className="flex flex-wrap gap-2 pt-2">
          {now && data.rows.length > 1 && (
            <Button large disabled={skip.isPending} onClick={() => skip.mutate(now)}>
              Leave {now.filter_code} out
            </Button>
          )}
          <StopButton job={job} />
        </div>
        {skip.error && <Trouble error={skip.error} />}
      </section>
    );
  }
  if (job.can_stop)
    return (
      <JobBar job={job} title={data.headline}>
        {next || (job.message === data.headline ? "" : job.message)}
      </JobBar>
    );
  return <JobCutShort job={job} what="The search" />;
}
