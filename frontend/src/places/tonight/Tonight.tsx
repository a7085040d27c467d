import { Link, useSearchParams } from "react-router";

import { useRun, useTonight } from "../../api/hooks";
import { PageHead, Trouble, Waiting } from "../../parts/basics";
import { useHere } from "../../parts/context";
import { Before } from "./Before";
import { Fill } from "./Fill";
import { RunView } from "./RunView";
import { Sheet } from "./Sheet";
import { NameAFolder } from "../../parts/NameAFolder";

/** The page Tonight: the run sheet, and doing it. */
export function Tonight() {
  const { rig, wishes } = useHere();
  const run = useRun(rig?.id ?? 0);
  const [params, setParams] = useSearchParams();
  const filling = params.has("fill");
  const idle = run.data?.run === null;
  const tonight = useTonight(rig?.id ?? 0, wishes, idle);
  if (!rig)
    return (
      <div className="px-6">
        <PageHead title="Nothing to shoot yet" />
        <p className="max-w-[70ch] pb-5 text-ink2">
          Once lights are read, what they lack is put on a sheet here: flats, dark flats, darks and bias, in
          order. Before the first light of a camera, too: once{" "}
          <Link className="underline underline-offset-2" to="/rigs">
            its rig is described
          </Link>
          , its darks and flats can be shot from here.
        </p>
        <NameAFolder />
      </div>
    );
  // What a night will cost can be asked at any time, also while frames are shot.
  if (params.has("before")) return <Before rigId={rig.id} onBack={() => setParams({})} />;
  const error = run.error ?? tonight.error;
  if (error && !run.data?.run && !tonight.data)
    return (
      <div className="p-6">
        <Trouble error={error} onRetry={() => void Promise.all([run.refetch(), tonight.refetch()])} />
      </div>
    );
  if (run.data?.run) return <RunView key={run.data.run.job.id} run={run.data.run} />;
  if (idle && filling) return <Fill rigId={rig.id} onBack={() => setParams({})} />;
  if (!tonight.data || !idle) return <Waiting what="Making the sheet" />;
  return (
    <Sheet
      data={tonight.data}
      onFill={() => setParams({ fill: "1" })}
      onBefore={() => setParams({ before: "1" })}
    />
  );
}
