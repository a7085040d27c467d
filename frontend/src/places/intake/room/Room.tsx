import { useMemo, useState } from "react";
import { Link } from "react-router";

import type { Schemas } from "../../../api/client";
import { useRoom } from "../../../api/hooks";
import { PageHead, Trouble, Waiting } from "../../../parts/basics";
import { FiledBefore } from "../FiledBefore";
import { LetGo } from "./LetGo";
import { Nights } from "./Nights";
import { ByKind, Disks } from "./Taken";
import { several } from "../../../parts/several";

function Page({ page }: { page: Schemas["RoomOut"] }) {
  const [chosen, setChosen] = useState<ReadonlySet<string>>(new Set());
  const setIds = useMemo(
    () => page.nights.filter((n) => chosen.has(n.key)).flatMap((n) => n.set_ids),
    [page.nights, chosen],
  );
  return (
    <div className="px-6 pb-6 max-md:px-4">
      <PageHead
        title={
          page.n_frames
            ? `${page.total_text} in ${several(page.n_frames, "frame")}.`
            : "No frame takes any room yet."
        }
      >
        <Link to="/intake" className="underline underline-offset-2">
          Intake
        </Link>
      </PageHead>
      <div className="grid grid-cols-[380px_1fr] gap-8 max-lg:grid-cols-1">
        <div className="flex min-w-0 flex-col gap-5">
          {page.kinds.length > 0 && <ByKind page={page} />}
          <Disks disks={page.disks} />
          <FiledBefore filed={page.filed} head="Let go before" />
        </div>
        <div className="flex min-w-0 flex-col gap-4">
          {page.nights.length > 0 ? (
            <Nights rows={page.nights} more={page.more_nights} chosen={chosen} onChoose={setChosen} />
          ) : (
            <p className="text-ink2">There are no raw frames that could be let go.</p>
          )}
          {setIds.length > 0 ? (
            <LetGo setIds={setIds} onDone={() => setChosen(new Set())} />
          ) : (
            page.nights.length > 0 && (
              <p className="text-ink2">
                Choose nights to pack them, to move them to another disk, or to throw them away once a master
                stands for them. What is to become of them by itself is said in the house rules of a rig;
                nothing goes before you say so here.
              </p>
            )
          )}
        </div>
      </div>
    </div>
  );
}

/** Room on the disks: what takes it, and raw frames packed, moved or thrown away once a master stands for them. */
export function Room() {
  const page = useRoom();
  if (page.error && !page.data)
    return (
      <div className="p-6">
        <Trouble error={page.error} onRetry={() => void page.refetch()} />
      </div>
    );
  if (!page.data) return <Waiting what="Looking at what takes how much room" />;
  return <Page page={page.data} />;
}
