import { useState } from "react";

import { api, get, type Schemas } from "../../api/client";
import { useChange } from "../../api/hooks";
import { Button, ColumnHead, Trouble } from "../../parts/basics";
import { JobHere } from "../../parts/JobCards";
import { TakeBack } from "../../parts/TakeBack";

type Filed = Schemas["FiledOut"];

const VERBS: Record<Filed["way"], string> = {
  move: "Moved frames",
  copy: "Copied frames",
  pack: "Packed",
  throw: "Thrown away:",
};

/** Deletes what was thrown away, once it was said twice: there is no way back from it. */
function DeleteForGood({ one, onDelete }: { one: Filed; onDelete: () => void }) {
  const [sure, setSure] = useState(false);
  if (!sure)
    return (
      <button
        type="button"
        className="-my-1 py-1 text-s underline underline-offset-2 hover:no-underline"
        onClick={() => setSure(true)}
      >
        delete for good
      </button>
    );
  return (
    <span className="flex flex-wrap items-center gap-2">
      There is no way back from it.
      <Button
        aria-label={`Delete for good: ${one.words}`}
        onClick={() => {
          setSure(false);
          onDelete();
        }}
      >
        Delete the files
      </Button>
      <Button look="link" onClick={() => setSure(false)}>
        Keep
      </Button>
    </span>
  );
}

/** What was filed or let go before: how far it is, its journal, and the way back. */
export function FiledBefore({ filed, head }: { filed: Filed[]; head: string }) {
  const back = useChange((id: number) =>
    get(api.POST("/api/filing/{filing_id}/take-back", { params: { path: { filing_id: id } } })),
  );
  const gone = useChange((id: number) =>
    get(api.POST("/api/room/{filing_id}/delete", { params: { path: { filing_id: id } } })),
  );
  if (filed.length === 0) return null;
  const error = back.error ?? gone.error;
  return (
    <section>
      <ColumnHead>{head}</ColumnHead>
      {error ? <Trouble error={error} /> : null}
      <ul className="max-h-[480px] overflow-auto">
        {filed.map((one) => (
          <li key={one.id} className="border-b border-line py-1.5">
            <p className={`break-words ${one.taken_back ? "text-ink2 line-through" : ""}`}>
              {VERBS[one.way]} {one.words}
              {one.root && (
                <>
                  , into <span className="num text-s break-all">{one.root}</span>
                </>
              )}
            </p>
            <p className="text-s text-ink2">
              {one.counts.map((c) => `${c.count.toLocaleString("en")} ${c.name}`).join(", ")}
              {one.can_delete && `; ${one.size_text} are free again once they are deleted`}
            </p>
            {one.job && <JobHere job={one.job} doing="" />}
            <p className="flex flex-wrap justify-between gap-x-3 text-s text-ink2">
              <span className="num">{one.taken_back ? `brought back ${one.taken_back}` : one.on}</span>
              <span className="flex flex-wrap gap-3">
                <a className="underline underline-offset-2" href={`/api/filing/${one.id}.csv`}>
                  CSV
                </a>
                {one.can_delete && <DeleteForGood one={one} onDelete={() => gone.mutate(one.id)} />}
                {one.can_take_back && (
                  <TakeBack what={`${VERBS[one.way]} ${one.words}`} onClick={() => back.mutate(one.id)} />
                )}
              </span>
            </p>
          </li>
        ))}
      </ul>
    </section>
  );
}
