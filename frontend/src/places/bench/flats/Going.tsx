import { api, get, type Schemas } from "../../../api/client";
import { useChange } from "../../../api/hooks";
import { AskedNext } from "../../../parts/AskedNext";
import { GateCard } from "../../../parts/Gate";
import { JobBar, JobCutShort, StopButton } from "../../../parts/JobCards";
import { Button, Trouble } from "../../../parts/basics";
import { filterName } from "../../../parts/filterName";
import type { Sheet } from "./keys";

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
      <AskedNext asked={data.next}>
        {now && data.rows.length > 1 && (
          <Button
            large
            className="max-w-full truncate"
            disabled={skip.isPending}
            onClick={() => skip.mutate(now)}
          >
            Leave {filterName(now.filter_code)} out
          </Button>
        )}
        <StopButton job={job} />
        {skip.error && <Trouble error={skip.error} />}
      </AskedNext>
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
