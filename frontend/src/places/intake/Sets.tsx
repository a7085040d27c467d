import { useState } from "react";

import { api, get, type Schemas } from "../../api/client";
import { useChange, useJobAction, useJobs, useSets } from "../../api/hooks";
import { Bar, Button, Segments, Trouble, Waiting } from "../../parts/basics";
import { TakeBack } from "../../parts/TakeBack";
import { Pages } from "./Pages";

const THOUGHT: Record<string, string> = {
  "in doubt": "only in names, so it asks for care",
  agree: "from names, which agree",
  right: "from names; you said that it is right",
  wrong: "in names; you said that it is not so, and it counts as not known",
};

/** What only files' names say of a set, and whether it is right. */
function Named({ set }: { set: Schemas["SetOut"] }) {
  const say = useChange((right: boolean | null) =>
    get(api.PUT("/api/sets/{set_id}/names", { params: { path: { set_id: set.id } }, body: { right } })),
  );
  const values = set.from_name.join(", ");
  const answered = set.names_say === "right" || set.names_say === "wrong";
  return (
    <span className={`block text-s ${set.names_say === "in doubt" ? "text-accent" : "text-ink2"}`}>
      {values}: {THOUGHT[set.names_say ?? ""]}.{" "}
      {answered ? (
        <TakeBack what={values} onClick={() => say.mutate(null)} />
      ) : (
        <>
          <button
            type="button"
            className="underline underline-offset-2"
            aria-label={`${values} of ${set.title}: it is right`}
            onClick={() => say.mutate(true)}
          >
            it is right
          </button>
          <button
            type="button"
            className="ml-3 underline underline-offset-2"
            aria-label={`${values} of ${set.title}: it is not so`}
            onClick={() => say.mutate(false)}
          >
            it is not so
          </button>
        </>
      )}
      {say.error ? <Trouble error={say.error} /> : null}
    </span>
  );
}

/** The build that goes on, or what the last one could not do, said where it was started. */
function BuildHere() {
  const jobs = useJobs();
  const act = useJobAction();
  const going = jobs.data?.alive.find((j) => j.kind === "build");
  const last = jobs.data?.ended.find((j) => j.kind === "build");
  if (going)
    return (
      <div className="flex items-center gap-4 pb-3" role="status">
        <span className="w-40">
          <Bar share={going.progress} label={going.title} />
        </span>
        <span className="flex-1 text-s text-ink2">{going.message}</span>
        {going.can_stop && (
          <Button onClick={() => act.mutate({ id: going.id, action: "stop" })}>Stop combining</Button>
        )}
        {going.can_resume && (
          <Button onClick={() => act.mutate({ id: going.id, action: "resume" })}>Go on combining</Button>
        )}
      </div>
    );
  if (!last || (last.state !== "failed" && last.troubles.length === 0)) return null;
  const troubles = last.state === "failed" ? [`${last.message} ${last.advice}`] : last.troubles;
  return (
    <div className="mb-3 border-l-4 border-accent bg-card px-4 py-2" role="alert">
      <p className="font-semibold">
        {last.state === "failed" ? "Combining had to stop." : `${last.title}: not all could be combined.`}
      </p>
      <ul>
        {[...new Set(troubles)].map((trouble) => (
          <li key={trouble}>{trouble}</li>
        ))}
      </ul>
    </div>
  );
}

const KINDS = ["", "light", "flat", "dark flat", "dark", "bias"];

const STATE: Record<string, string> = {
  loose: "loose frames",
  combined: "combined here",
  master: "a master",
  lights: "",
};

/** A set, and what can be done with it. */
function SetRow({
  set,
  onLook,
  onCombine,
}: {
  set: Schemas["SetOut"];
  onLook: () => void;
  onCombine: () => void;
}) {
  const told = [STATE[set.state] ?? set.state, set.come_since > 0 ? `${set.come_since} more since` : ""];
  return (
    <tr className="border-b border-line">
      <td className="w-[76px] py-1">{set.kind}</td>
      <td>
        {set.title}
        <span className="block text-s text-ink2 md:hidden">
          {[set.night, set.camera, ...told].filter(Boolean).join(", ")}
        </span>
        {set.names_say && <Named set={set} />}
        {set.missing && <span className="block pb-1 text-s text-accent">{set.missing}.</span>}
      </td>
      <td className="max-w-[180px] truncate pr-4 text-ink2 max-md:hidden" title={set.camera}>
        {set.camera}
      </td>
      <td className="num pr-6 text-right max-md:pr-3">{set.n_frames}</td>
      <td className="num pr-4 text-s whitespace-nowrap max-md:hidden" title={set.origin}>
        {set.night}
      </td>
      <td className="text-ink2 max-md:hidden">
        <span className="whitespace-nowrap">{told[0]}</span>
        {told[1] && <span className="text-ink">, {told[1]}</span>}
      </td>
      <td className="text-right whitespace-nowrap">
        <button
          type="button"
          className="underline underline-offset-2 max-md:py-3"
          aria-label={`Look at the ${set.kind} ${set.title} of ${set.night}`}
          onClick={onLook}
        >
          Look
        </button>
        {(set.can_build || set.come_since > 0) && (
          <button
            type="button"
            className="ml-3 underline underline-offset-2 max-md:py-3"
            aria-label={`Combine the ${set.kind} ${set.title} of ${set.night}`}
            onClick={onCombine}
          >
            {set.can_build ? "Combine" : "Combine anew"}
          </button>
        )}
      </td>
    </tr>
  );
}

export function Sets({ onLook }: { onLook: (set: number) => void }) {
  const [page, setPage] = useState(1);
  const [kind, setKind] = useState("");
  const sets = useSets(page, kind);
  const build = useChange((ids: number[] | null) => get(api.POST("/api/builds", { body: { set_ids: ids } })));
  if (sets.error && !sets.data) return <Trouble error={sets.error} onRetry={() => void sets.refetch()} />;
  if (!sets.data) return <Waiting what="Sorting the sets" />;
  const data = sets.data;
  return (
    <>
      <div className="flex flex-wrap items-center gap-x-4 gap-y-2 pb-2">
        <Segments
          label="Kind"
          value={kind}
          options={KINDS.map((k) => ({ value: k, label: k || "every kind" }))}
          onChange={(k) => {
            setKind(k);
            setPage(1);
          }}
        />
        <a className="underline underline-offset-2" href="/api/sets.csv">
          CSV
        </a>
        {data.to_build > 0 && (
          <Button
            look="ink"
            className="ml-auto"
            disabled={build.isPending}
            onClick={() => build.mutate(null)}
          >
            Combine {data.to_build} {data.to_build === 1 ? "set into a master" : "sets into masters"}
          </Button>
        )}
      </div>
      {build.error ? <Trouble error={build.error} /> : null}
      <BuildHere />
      <table className="w-full border-collapse">
        <thead>
          <tr className="narrow border-b border-ink text-left text-s text-ink2">
            <th className="py-1 font-normal">Kind</th>
            <th className="font-normal">Set</th>
            <th className="font-normal max-md:hidden">Camera</th>
            <th className="pr-6 text-right font-normal max-md:pr-3">Frames</th>
            <th className="font-normal max-md:hidden">Night</th>
            <th className="font-normal max-md:hidden">State</th>
            <th>
              <span className="sr-only">What to do</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {data.items.map((set) => (
            <SetRow
              key={set.id}
              set={set}
              onLook={() => onLook(set.id)}
              onCombine={() => build.mutate([set.id])}
            />
          ))}
        </tbody>
      </table>
      {data.items.length === 0 && <p className="py-4 text-ink2">No set of this kind yet.</p>}
      <Pages page={page} pages={data.pages} onPage={setPage} />
    </>
  );
}
