import { api, get, type Schemas } from "../../api/client";
import { useChange, useJobAction, useJobs } from "../../api/hooks";
import { Button, Scroller, Trouble } from "../../parts/basics";
import { JobHere } from "../../parts/JobCards";

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
        <JobHere job={going} doing="reading" />
      ) : (
        <>
          {last && (
            <div className="pt-2" role="status">
              <p>{last.message}</p>
              {last.troubles.length > 0 && (
                <Scroller name="What was found" className="mt-1 max-h-48 border-l-4 border-accent pl-2.5">
                  <ul className="text-s">
                    {last.troubles.map((trouble) => (
                      <li key={trouble} className="break-all">
                        {trouble}
                      </li>
                    ))}
                  </ul>
                </Scroller>
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

/** The copies of the database that are made by themselves, and one more whenever it is wanted. */
export function Backups({ backups }: { backups: Schemas["BackupsOut"] }) {
  const jobs = useJobs();
  const begin = useChange(() => get(api.POST("/api/backup", { body: { to: null } })));
  const going = jobs.data?.alive.find((j) => j.kind === "backup");
  return (
    <section className="border-t border-line pt-3">
      <h2 className="text-l font-semibold">Copies of the database</h2>
      <p className="pt-1 text-ink2">
        {backups.newest
          ? `The last is of ${backups.newest}; ${backups.count} ${backups.count === 1 ? "is" : "are"} kept.`
          : "None yet: the first is made soon after the start."}{" "}
        One is made by itself each night, and before each change of its form.
      </p>
      <p className="num text-s break-all">{backups.folder}</p>
      {going ? (
        <JobHere job={going} doing="copying" />
      ) : (
        <Button className="mt-2" disabled={begin.isPending} onClick={() => begin.mutate(undefined)}>
          Copy it now
        </Button>
      )}
      {begin.error ? <Trouble error={begin.error} /> : null}
    </section>
  );
}
