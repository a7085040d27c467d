import { api, get } from "../../api/client";
import { useChange, useJobAction, useJobs } from "../../api/hooks";
import { Bar, Button, Trouble } from "../../parts/basics";

/** Whether every file of the library still is what it was: read on request, and told here. */
export function Verify() {
  const jobs = useJobs();
  const act = useJobAction();
  const begin = useChange(() => get(api.POST("/api/verify")));
  const going = jobs.data?.alive.find((j) => j.kind === "verify");
  const last = going ?? jobs.data?.ended.find((j) => j.kind === "verify");
  return (
    <section className="border-t border-line pt-3">
      <h2 className="text-l font-semibold">Is every file what it was?</h2>
      <p className="pt-1 text-ink2">
        Each is read to its end and held against what it was when it came in: a disk that fails shows here
        first.
      </p>
      {going ? (
        <div className="flex flex-col items-start gap-1 pt-2" role="status">
          <Bar share={going.progress} label={going.title} />
          <p className="text-s text-ink2">{going.message}</p>
          {going.can_stop && (
            <Button onClick={() => act.mutate({ id: going.id, action: "stop" })}>Stop reading</Button>
          )}
          {going.can_resume && (
            <Button onClick={() => act.mutate({ id: going.id, action: "resume" })}>Go on reading</Button>
          )}
        </div>
      ) : (
        <>
          {last && (
            <div className="pt-2" role="status">
              <p>{last.message}</p>
              {last.troubles.length > 0 && (
                <ul className="mt-1 max-h-48 overflow-auto border-l-4 border-accent pl-2.5 text-s">
                  {last.troubles.map((trouble) => (
                    <li key={trouble} className="break-all">
                      {trouble}
                    </li>
                  ))}
                </ul>
              )}
            </div>
          )}
          <div className="flex gap-3 pt-2">
            {last?.can_resume && (
              <Button onClick={() => act.mutate({ id: last.id, action: "resume" })}>Go on from there</Button>
            )}
            <Button disabled={begin.isPending} onClick={() => begin.mutate(undefined)}>
              Read every file
            </Button>
          </div>
        </>
      )}
      {begin.error ? <Trouble error={begin.error} /> : null}
      {act.error ? <Trouble error={act.error} /> : null}
    </section>
  );
}
