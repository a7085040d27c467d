import { api, get, type Schemas } from "../../../api/client";
import { useChange } from "../../../api/hooks";
import { GateCard } from "../../../parts/Gate";
import { JobBar, JobCutShort, StopButton } from "../../../parts/JobCards";
import { Button, Trouble } from "../../../parts/basics";

type Sheet = Schemas["FlatSheetOut"];

/** What goes on: the gate, the line for somebody at the camera's own program, the progress, stop and go on. */
export function Going({ data, rig, next }: { data: Sheet; rig: number; next: string }) {
  const skip = useChange((key: Schemas["FlatKeyIn"]) =>
    get(api.POST("/api/rigs/{rig_id}/flats/skip", { params: { path: { rig_id: rig } }, body: key })),
  );
  const job = data.job;
  if (!job) return null;
  if (data.gate) return <GateCard gate={data.gate} job={job} />;
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
