import { useState } from "react";

import { api, get, type Schemas } from "../../api/client";
import { useChange, useProblems } from "../../api/hooks";
import { Segments, Trouble, Waiting } from "../../parts/basics";
import { Pages } from "./Pages";

const WHAT: Record<string, string> = {
  unreadable: "could not be read",
  lacking: "lacks a value",
  duplicate: "a copy",
  missing: "missing",
};
/** The lists that nobody has to look through: they are only shown when they are asked for. */
const LISTS: Record<string, string> = { duplicate: "copies" };

/** A file that is to be looked at: what is wrong with it, and what can be done. */
function Problem({
  item,
  busy,
  onLook,
  onBack,
}: {
  item: Schemas["ProblemOut"];
  busy: boolean;
  onLook: () => void;
  onBack: () => void;
}) {
  return (
    <li className="grid grid-cols-[minmax(180px,2fr)_120px_minmax(0,3fr)] max-xl:grid-cols-[minmax(0,2fr)_80px_minmax(0,3fr)] gap-4 max-md:grid-cols-1 max-md:gap-1 border-b border-line py-1.5">
      <span className="num text-s break-all">{item.path}</span>
      <span className="text-s text-ink2">{WHAT[item.state] ?? item.state}</span>
      <span className="wrap-break-word">
        {item.reason} <span className="text-ink2">{item.advice}</span>{" "}
        {item.state !== "missing" && (
          <button
            type="button"
            className="mr-3 underline underline-offset-2 hover:no-underline"
            aria-label={`${item.state === "duplicate" ? "see both" : "look at it"}: ${item.path}`}
            onClick={onLook}
          >
            {item.state === "duplicate" ? "see both" : "look at it"}
          </button>
        )}
        {item.state === "set aside" && (
          <button
            type="button"
            className="underline underline-offset-2 hover:no-underline"
            aria-label={`put it back: ${item.path}`}
            disabled={busy}
            onClick={onBack}
          >
            put it back
          </button>
        )}
      </span>
    </li>
  );
}

export function Problems({ onLook }: { onLook: (frame: number) => void }) {
  const [page, setPage] = useState(1);
  const [state, setState] = useState("");
  const problems = useProblems(page, state);
  const back = useChange((id: number) =>
    get(api.POST("/api/frames/{frame_id}/put-back", { params: { path: { frame_id: id } } })),
  );
  if (problems.error && !problems.data)
    return <Trouble error={problems.error} onRetry={() => void problems.refetch()} />;
  if (!problems.data) return <Waiting what="Listing" />;
  const data = problems.data;
  return (
    <>
      <div className="flex flex-wrap items-center gap-x-4 gap-y-2 pb-2">
        <Segments
          label="What is wrong"
          value={state}
          options={[
            { value: "", label: "to look at" },
            ...data.counts.map((c) => ({
              value: c.name,
              label: `${LISTS[c.name] ?? WHAT[c.name] ?? c.name} ${c.count}`,
            })),
          ]}
          onChange={(s) => {
            setState(s);
            setPage(1);
          }}
        />
        <a className="underline underline-offset-2" href="/api/problems.csv">
          CSV
        </a>
      </div>
      {back.error && <Trouble error={back.error} />}
      {back.data && !back.error && <p role="status">{back.data.message}</p>}
      <ul className="border-t border-ink">
        {data.items.map((item) => (
          <Problem
            key={item.id}
            item={item}
            onLook={() => onLook(item.id)}
            onBack={() => back.mutate(item.id)}
            busy={back.isPending}
          />
        ))}
      </ul>
      {data.items.length === 0 && (
        <p className="py-4 text-ink2">Every file was read, and nothing that matters is lacking.</p>
      )}
      <Pages page={page} pages={data.pages} onPage={setPage} />
    </>
  );
}
