import { useMemo, useState } from "react";
import { Link } from "react-router";

import { api, get, type Schemas } from "../../../api/client";
import { useChange, useJobs, useMend, useMendPreview } from "../../../api/hooks";
import { Button, ColumnHead, PageHead, Trouble, Waiting } from "../../../parts/basics";
import { JobHere } from "../../../parts/JobCards";
import { Changes } from "./Changes";
import { InQuestion, kindsInQuestion, targetsInQuestion } from "./InQuestion";
import { NOBODY, useSettled, type Meant } from "../meant";
import { WhichFrames } from "../WhichFrames";
import { SaidBefore } from "./SaidBefore";
import { asked, noNumbers, type Typed } from "./typed";
import { WhatIsSaid } from "./WhatIsSaid";
import { several } from "../../../parts/several";

/** Frames that lack the same, folder by folder: pulled, they are the ones that are meant. */
function Lacking({
  groups,
  chosen,
  onChoose,
}: {
  groups: Schemas["LackingOut"][];
  chosen: Meant;
  onChoose: (meant: Meant) => void;
}) {
  return (
    <section>
      <ColumnHead>What is lacking</ColumnHead>
      {groups.length === 0 && <p className="py-2 text-ink2">No frame lacks anything that matters.</p>}
      <ul className="max-h-[520px] overflow-auto">
        {groups.map((g) => {
          const meant: Meant = {
            ...NOBODY,
            folder: g.folder_id,
            below: g.below,
            kind: g.kind || "not known",
            camera: g.camera || "not known",
            lacks: g.lacks[0] ?? "",
          };
          const here = JSON.stringify(meant) === JSON.stringify(chosen);
          return (
            <li key={`${g.folder_id}/${g.below}/${g.kind}/${g.camera}/${g.lacks.join()}`}>
              <button
                type="button"
                aria-pressed={here}
                onClick={() => onChoose(meant)}
                className={`block w-full border-b border-line px-2 py-1.5 text-left hover:bg-card ${here ? "border-l-4 border-l-ink bg-card" : "pl-3"}`}
              >
                <span className="flex justify-between gap-3">
                  <span>
                    {g.kind || "frames"} without {g.lacks.join(", ")}
                  </span>
                  <span className="num">{g.frames.toLocaleString("en")}</span>
                </span>
                <span className="num block truncate text-s text-ink2" title={`${g.folder}/${g.below}`}>
                  {g.below || g.folder.split("/").pop()}/{g.example}
                </span>
              </button>
            </li>
          );
        })}
      </ul>
    </section>
  );
}

/** What is being told anew, or what the last act came to. */
function Telling() {
  const jobs = useJobs();
  const going = jobs.data?.alive.find((j) => j.kind === "mend");
  const last = jobs.data?.ended.find((j) => j.kind === "mend");
  if (going) return <JobHere job={going} doing="telling frames" />;
  if (!last) return null;
  return (
    <p role="status" className={last.state === "failed" ? "text-accent" : "text-ink2"}>
      {last.message}. {last.advice}
    </p>
  );
}

/** What there is to say, in a line. */
function headline(data: Schemas["MendOut"]): string {
  const lacking = data.lacking_frames
    ? `${several(data.lacking_frames, "frame")} lack${data.lacking_frames === 1 ? "s" : ""} what matters.`
    : "Nothing that matters is lacking.";
  if (!data.doubted_frames) return lacking;
  const doubted = `${several(data.doubted_frames, "frame")} may be of another kind.`;
  return data.lacking_frames ? `${lacking} ${doubted}` : doubted;
}

/** Say what headers lack or have wrong, for many frames at once. */
export function Mend() {
  const page = useMend();
  const [meant, setMeant] = useState<Meant>(NOBODY);
  const [typed, setTyped] = useState<Typed>({});
  const anyone = JSON.stringify(meant) === JSON.stringify(NOBODY);
  const body = useSettled(useMemo(() => asked(meant, anyone ? {} : typed), [meant, anyone, typed]));
  const preview = useMendPreview(body);
  const say = useChange(
    () => get(api.POST("/api/mend", { body })),
    () => setTyped({}),
  );
  if (page.error && !page.data)
    return (
      <div className="p-6">
        <Trouble error={page.error} onRetry={() => void page.refetch()} />
      </div>
    );
  if (!page.data) return <Waiting what="Looking for what is lacking" />;
  const data = page.data;
  const choose = (those: Meant, saying: Typed) => {
    setMeant(those);
    setTyped(saying);
  };
  const shown = preview.data;
  const ready = !!shown?.words && shown.said > 0 && !anyone && noNumbers(typed).length === 0;
  return (
    <div className="px-6 pb-6 max-md:px-4">
      <PageHead title={headline(data)}>
        <Link to="/intake" className="underline underline-offset-2">
          Intake
        </Link>
      </PageHead>
      <div className="grid grid-cols-[300px_1fr] gap-8 max-lg:grid-cols-1">
        <div className="flex min-w-0 flex-col gap-5">
          <InQuestion title="Header or folder?" questions={kindsInQuestion(data.doubted)} onChoose={choose} />
          <InQuestion title="Which target?" questions={targetsInQuestion(data.targets)} onChoose={choose} />
          <Lacking groups={data.lacking} chosen={meant} onChoose={setMeant} />
          <SaidBefore said={data.said} />
        </div>
        <div className="flex min-w-0 flex-col gap-4">
          <WhichFrames
            page={data}
            meant={meant}
            note={anyone ? "choose by what they share" : shown ? several(shown.frames, "frame") : ""}
            onChange={setMeant}
          />
          <WhatIsSaid page={data} typed={typed} onChange={setTyped} />
          <div className="flex flex-wrap items-center gap-4">
            <Button
              look="accent"
              large
              disabled={!ready || say.isPending}
              onClick={() => say.mutate(undefined)}
            >
              {ready ? `Say it of ${several(shown.said, "frame")}` : "Say it"}
            </Button>
            <span className="text-ink2">
              {ready ? `${shown.words}. ` : ""}No file is touched, and it can be taken back.
            </span>
          </div>
          <Telling />
          {say.error ? <Trouble error={say.error} /> : null}
          {preview.error ? <Trouble error={preview.error} /> : shown ? <Changes preview={shown} /> : null}
        </div>
      </div>
    </div>
  );
}
