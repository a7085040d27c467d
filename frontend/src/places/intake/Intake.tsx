import { useState } from "react";
import { Link, useSearchParams } from "react-router";

import { api, get } from "../../api/client";
import { useChange, useIntake, useProposal } from "../../api/hooks";
import { Button, PageHead, Trouble, Waiting } from "../../parts/basics";
import { waiting } from "../../parts/proposal";
import { several } from "../../parts/several";
import { IntakeViewer, useIntakeLooking } from "./IntakeViewer";
import { Drop } from "./drop/Drop";
import { Backups, Verify } from "./Verify";
import { FolderCard, OwnFolder } from "./FolderCards";
import { Problems } from "./Problems";
import { Sets } from "./Sets";
import { RigZones, Site } from "./Site";

/** Rigs that the headers of what came in propose. */
function Proposed() {
  const words = waiting(useProposal().data ?? { rigs: [], doubts: [], said_two: [], others: [] });
  if (!words) return null;
  return (
    <p className="pb-2" role="status">
      {words}: have a look on{" "}
      <Link className="underline" to="/rigs?proposed">
        Rigs
      </Link>
      .
    </p>
  );
}

/** The page Intake: name folders, see what their frames are, and what could not be read. */
export function Intake() {
  const intake = useIntake();
  const [params, setParams] = useSearchParams();
  const look = params.get("look") === "problems" ? "problems" : "sets";
  const looking = useIntakeLooking();
  const [path, setPath] = useState("");
  const add = useChange((text: string) => get(api.POST("/api/folders", { body: { path: text } })));
  if (intake.error && !intake.data)
    return (
      <div className="p-6">
        <Trouble error={intake.error} onRetry={() => void intake.refetch()} />
      </div>
    );
  if (!intake.data) return <Waiting what="Opening the door" />;
  const data = intake.data;
  const all = [...data.folders, data.own];
  const total = all.reduce((sum, f) => sum + f.total, 0);
  const trouble = all.reduce((sum, f) => sum + f.to_look_at, 0);
  const copies = all.reduce((sum, f) => sum + f.copies, 0);
  const read = several(total - copies, "frame") + (copies ? ` and ${several(copies, "copy", "copies")}` : "");
  const headline = data.folders.length
    ? `${read} read${trouble ? `, ${trouble} to look at` : ""}.`
    : "Name a folder of frames.";
  return (
    <div className="px-6 pb-6 max-md:px-4">
      <PageHead title={headline}>
        <Link className="underline underline-offset-2" to="/intake/other">
          From another Gray Shelf
        </Link>
        {data.folders.length > 0 && (
          <>
            <Link className="underline underline-offset-2" to="/intake/mend">
              Say what is lacking or wrong
            </Link>
            <Link className="underline underline-offset-2" to="/intake/file">
              File frames
            </Link>
            <Link className="underline underline-offset-2" to="/intake/room">
              Room on the disks
            </Link>
          </>
        )}
      </PageHead>
      <Proposed />
      {data.doubted_kinds && (
        <p className="pb-2" role="status">
          {data.doubted_kinds}:{" "}
          <Link className="underline" to="/intake/mend">
            say which is right
          </Link>
          .
        </p>
      )}
      <div className="grid grid-cols-[380px_minmax(0,1fr)] max-xl:grid-cols-[320px_minmax(0,1fr)] gap-8 max-lg:grid-cols-1">
        <div className="flex flex-col gap-3">
          <form
            className="flex flex-col gap-2"
            onSubmit={(event) => {
              event.preventDefault();
              add.mutate(path, { onSuccess: () => setPath("") });
            }}
          >
            <label htmlFor="folder" className="font-semibold">
              A folder on this machine
            </label>
            <div className="flex gap-2">
              <input
                id="folder"
                value={path}
                onChange={(event) => setPath(event.target.value)}
                placeholder="/media/stick/frames"
                autoComplete="off"
                spellCheck={false}
                className="num h-8 min-w-0 flex-1 rounded-sm border border-rule bg-card px-2 placeholder:text-ink2"
              />
              <Button
                type="submit"
                look={data.folders.length ? "ink" : "accent"}
                disabled={!path.trim() || add.isPending}
              >
                Scan it
              </Button>
            </div>
            <p className="text-s text-ink2">
              It is read in place: nothing in it is moved, changed or deleted.
            </p>
          </form>
          {add.error ? <Trouble error={add.error} /> : null}
          <Drop />
          <ul className="flex flex-col gap-3">
            {data.folders.map((folder) => (
              <FolderCard key={folder.id} folder={folder} />
            ))}
          </ul>
          <Site data={data} />
          <RigZones data={data} />
          <OwnFolder folder={data.own} />
          <Verify />
          <Backups backups={data.backups} />
        </div>
        <section className="min-w-0">
          {data.folders.length > 0 && (
            <>
              <div className="flex gap-6 pb-3">
                {(["sets", "problems"] as const).map((which) => (
                  <button
                    key={which}
                    type="button"
                    aria-pressed={look === which}
                    onClick={() => setParams(which === "sets" ? {} : { look: which })}
                    className={`text-xl ${look === which ? "font-semibold" : "text-ink2 hover:text-ink"}`}
                    style={{ fontStretch: "88%" }}
                  >
                    {which === "sets" ? "Sets" : `To look at${trouble ? ` ${trouble}` : ""}`}
                  </button>
                ))}
              </div>
              {look === "sets" ? (
                <Sets onLook={(set) => looking.look("set", set)} />
              ) : (
                <Problems onLook={(frame) => looking.look("frame", frame)} />
              )}
            </>
          )}
        </section>
      </div>
      <IntakeViewer {...looking} />
    </div>
  );
}
