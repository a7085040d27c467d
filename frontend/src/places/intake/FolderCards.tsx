import { useState } from "react";

import { api, get, type Schemas } from "../../api/client";
import { useChange, useJobAction } from "../../api/hooks";
import { Bar, Button, Trouble } from "../../parts/basics";
import { JobHere } from "../../parts/JobCards";
import { several } from "../../parts/several";

type FolderData = Schemas["FolderOut"];

/** Frames whose files are not where they were: they keep their places until they are back, or let go. */
function Missing({ folder }: { folder: FolderData }) {
  const letGo = useChange(() =>
    get(api.POST("/api/folders/{folder_id}/let-go", { params: { path: { folder_id: folder.id } } })),
  );
  const [sure, setSure] = useState(false);
  const many = `${folder.missing.toLocaleString("en")} ${folder.missing === 1 ? "frame is" : "frames are"}`;
  return (
    <div className="pt-1">
      <p className="text-accent">
        {many} missing. {folder.missing === 1 ? "It keeps its" : "They keep their"} set and master until the
        next scan finds {folder.missing === 1 ? "it" : "them"} again.
      </p>
      {sure ? (
        <p className="flex flex-wrap items-center gap-2 pt-1 text-s">
          Only if the files are gone for good: their sets and masters lose them.
          <Button
            onClick={() => {
              setSure(false);
              letGo.mutate(undefined);
            }}
          >
            Let {folder.missing === 1 ? "it" : "them"} go
          </Button>
          <Button look="link" onClick={() => setSure(false)}>
            Keep
          </Button>
        </p>
      ) : (
        <Button look="link" aria-label={`Let the missing go: ${folder.path}`} onClick={() => setSure(true)}>
          Let the missing go
        </Button>
      )}
      {letGo.error ? <Trouble error={letGo.error} /> : null}
    </div>
  );
}

/** The library's own folder: where what is shot and built here lies. */
export function OwnFolder({ folder }: { folder: FolderData }) {
  const look = useChange(() =>
    get(api.POST("/api/folders/{folder_id}/scan", { params: { path: { folder_id: folder.id } } })),
  );
  const job = folder.job;
  return (
    <section className="border-t border-line pt-3">
      <h2 className="text-l font-semibold">The library’s own folder</h2>
      <p className="num break-all text-s">{folder.path}</p>
      <p className="pt-1 text-ink2">
        {several(folder.total, "frame")} shot, fetched or combined here.{" "}
        {folder.to_look_at > 0 && <span className="text-accent">{folder.to_look_at} to look at.</span>}{" "}
        {folder.scanned && `Looked through ${folder.scanned}.`}
      </p>
      {folder.trouble && <p className="text-accent">{folder.trouble}</p>}
      {folder.missing > 0 && <Missing folder={folder} />}
      {job ? (
        <JobHere job={job} doing="looking" />
      ) : (
        <Button className="mt-2" disabled={look.isPending} onClick={() => look.mutate(undefined)}>
          Look through it
        </Button>
      )}
      {look.error ? <Trouble error={look.error} /> : null}
    </section>
  );
}

export function FolderCard({ folder }: { folder: FolderData }) {
  const again = useChange(() =>
    get(api.POST("/api/folders/{folder_id}/scan", { params: { path: { folder_id: folder.id } } })),
  );
  const forget = useChange(() =>
    get(api.DELETE("/api/folders/{folder_id}", { params: { path: { folder_id: folder.id } } })),
  );
  const watch = useChange((watched: boolean) =>
    get(
      api.PUT("/api/folders/{folder_id}/watched", {
        params: { path: { folder_id: folder.id } },
        body: { watched },
      }),
    ),
  );
  const act = useJobAction();
  const [sure, setSure] = useState(false);
  const job = folder.job;
  const holds = folder.kinds.map((k) => `${k.count.toLocaleString("en")} ${k.name}`);
  if (folder.copies > 0)
    holds.push(several(folder.copies, "copy of a frame that counts", "copies of frames that count"));
  return (
    <li className="border border-line bg-card px-4 py-3">
      <p className="num break-all text-m">{folder.path}</p>
      <p className="pt-1 text-ink2">
        {folder.total
          ? `${holds.join(", ") || "no frames"}.`
          : job
            ? ""
            : folder.passed_over
              ? "No frame that can be read was found in it."
              : "No frames were found in it."}{" "}
        {folder.passed_over && <span className="text-ink">{folder.passed_over} </span>}
        {folder.to_look_at > 0 && (
          <span className="whitespace-nowrap text-accent">{folder.to_look_at} to look at.</span>
        )}{" "}
        {folder.scanned && `Scanned ${folder.scanned}.`}
      </p>
      {folder.trouble && <p className="text-accent">{folder.trouble}</p>}
      {folder.missing > 0 && <Missing folder={folder} />}
      {job && (
        <div className="pt-2">
          <Bar share={job.progress} label={job.title} />
          <p className={`pt-1 text-s ${job.state === "interrupted" ? "text-accent" : "text-ink2"}`}>
            {job.state === "interrupted" ? "This scan was interrupted." : ""} {job.message}
          </p>
        </div>
      )}
      <div className="flex items-center gap-2 pt-2">
        {job?.can_stop && (
          <Button onClick={() => act.mutate({ id: job.id, action: "stop" })}>Stop the scan</Button>
        )}
        {job?.can_resume && (
          <Button look="accent" onClick={() => act.mutate({ id: job.id, action: "resume" })}>
            Go on with the scan
          </Button>
        )}
        {!job && (
          <Button
            disabled={again.isPending}
            aria-label={`Scan again: ${folder.path}`}
            onClick={() => again.mutate(undefined)}
          >
            Scan again
          </Button>
        )}
        {!job && !sure && (
          <Button look="link" aria-label={`Take off the list: ${folder.path}`} onClick={() => setSure(true)}>
            Take off the list
          </Button>
        )}
        {sure && (
          <>
            <span className="text-s">
              Its {folder.total.toLocaleString("en")} frames leave the library; its files stay as they are.
            </span>
            <Button
              onClick={() => {
                setSure(false);
                forget.mutate(undefined);
              }}
            >
              Take off
            </Button>
            <Button look="link" onClick={() => setSure(false)}>
              Keep
            </Button>
          </>
        )}
      </div>
      <label className="flex items-center gap-2 pt-2 text-s max-md:py-2">
        <input
          type="checkbox"
          checked={folder.watched}
          disabled={watch.isPending}
          onChange={(event) => watch.mutate(event.target.checked)}
        />
        Watch it: what comes in is taken in as soon as it is whole
      </label>
      {watch.error ? <Trouble error={watch.error} /> : null}
      {again.error ? <Trouble error={again.error} /> : null}
      {forget.error ? <Trouble error={forget.error} /> : null}
    </li>
  );
}
