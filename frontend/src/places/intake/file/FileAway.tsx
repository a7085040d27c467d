import { useMemo, useState } from "react";
import { Link } from "react-router";

import { api, get, type Schemas } from "../../../api/client";
import { useChange, useFiling, useFilingPreview } from "../../../api/hooks";
import { Button, ColumnHead, PageHead, Trouble, Waiting } from "../../../parts/basics";
import { FiledBefore } from "../FiledBefore";
import { framesMeant, NOBODY, useSettled } from "../meant";
import { PatternField } from "../PatternField";
import { WhichFrames } from "../WhichFrames";
import { GoesWhere } from "./GoesWhere";
import { FromNowOn, WhereTo, type Wishes } from "./WhereTo";
import { several } from "../../../parts/several";

type Page = Schemas["FilingOut"];
/** The four patterns, each with a path that one of one's own frames gets. */
function Patterns({
  page,
  wishes,
  preview,
  onChange,
}: {
  page: Page;
  wishes: Wishes;
  preview: Schemas["FilingPreviewOut"] | undefined;
  onChange: (wishes: Wishes) => void;
}) {
  return (
    <section aria-label="Patterns">
      <ColumnHead note="what stands in [ ] is left out where it is not known">
        How folders and names are made
      </ColumnHead>
      <div className="flex flex-col gap-2.5 pt-2">
        {page.patterns.map((p) => {
          const text = wishes.patterns.find((w) => w.sort === p.sort)?.text ?? p.text;
          const example = preview?.examples.find((e) => e.sort === p.sort);
          const set = (changed: string) =>
            onChange({
              ...wishes,
              patterns: wishes.patterns.map((w) => (w.sort === p.sort ? { ...w, text: changed } : w)),
            });
          return (
            <PatternField
              key={p.sort}
              quiet
              label={p.sort.charAt(0).toUpperCase() + p.sort.slice(1)}
              parts={page.parts}
              value={text}
              onChange={set}
            >
              <p className="flex gap-3 pt-0.5 text-s text-ink2">
                <span className="num min-w-0 flex-1 break-all">{example?.path}</span>
                {text !== p.usual && (
                  <button
                    type="button"
                    className="shrink-0 underline underline-offset-2"
                    onClick={() => set(p.usual)}
                  >
                    as it was first
                  </button>
                )}
              </p>
            </PatternField>
          );
        })}
      </div>
    </section>
  );
}

/** The headline: what would happen, in numbers. */
function told(preview: Schemas["FilingPreviewOut"] | undefined, page: Page): string {
  if (!page.root && !preview?.going) return "Put frames in an order of your own.";
  if (!preview || preview.trouble) return "File frames.";
  if (preview.going === 0)
    return preview.in_place ? `${several(preview.in_place, "frame")} in place.` : "No frame goes anywhere.";
  const staying = preview.frames - preview.going - preview.in_place;
  const parts = [`${several(preview.going, "frame")} to file`];
  if (preview.in_place) parts.push(`${preview.in_place.toLocaleString("en")} in place`);
  if (staying) parts.push(`${staying.toLocaleString("en")} stay`);
  return `${parts.join(", ")}.`;
}

function Form({ page }: { page: Page }) {
  const [meant, setMeant] = useState(NOBODY);
  const [wishes, setWishes] = useState<Wishes>({
    root: page.root,
    patterns: page.patterns.map(({ sort, text }) => ({ sort, text })),
    unknown: page.unknown,
    way: page.way,
    along: page.along,
  });
  const body = useSettled(useMemo(() => ({ ...wishes, choice: framesMeant(meant) }), [wishes, meant]));
  const preview = useFilingPreview(body);
  const start = useChange(() => get(api.POST("/api/filing", { body })));
  const shown = preview.data;
  const underway = page.filed.find((one) => one.job?.can_stop)?.job;
  const ready = !!shown && shown.going > 0 && !preview.isFetching && !underway;
  const verb = wishes.way === "move" ? "Move" : "Copy";
  return (
    <div className="px-6 pb-6 max-md:px-4">
      <PageHead title={underway ? `${underway.message || underway.title}.` : told(shown, page)}>
        <Link to="/intake" className="underline underline-offset-2">
          Intake
        </Link>
      </PageHead>
      <div className="grid grid-cols-[300px_1fr] gap-8 max-lg:grid-cols-1">
        <div className="flex min-w-0 flex-col gap-5">
          <WhereTo wishes={wishes} onChange={setWishes} />
          <FromNowOn page={page} />
          <FiledBefore filed={page.filed} head="Filed before" />
        </div>
        <div className="flex min-w-0 flex-col gap-4">
          <WhichFrames
            page={page}
            meant={meant}
            note={shown && !shown.trouble ? several(shown.frames, "frame") : ""}
            onChange={setMeant}
          />
          <Patterns page={page} wishes={wishes} preview={shown} onChange={setWishes} />
          <div className="flex flex-wrap items-center gap-4">
            <Button
              look="accent"
              large
              disabled={!ready || start.isPending}
              onClick={() => start.mutate(undefined)}
            >
              {shown?.going ? `${verb} ${several(shown.going, "frame")}` : verb}
            </Button>
            <span className="text-ink2">
              {underway
                ? "One filing at a time: this one waits until the other has ended, or was stopped."
                : shown && shown.going > 0
                  ? `${shown.size_text}${shown.along ? `, and ${shown.along.toLocaleString("en")} notes and logs` : ""}. It can be taken back, also next week.`
                  : wishes.root.trim()
                    ? "Nothing is touched before you say so."
                    : "Name the folder that they are filed into: it may be a new one, or the one they are in."}
            </span>
          </div>
          {start.error ? <Trouble error={start.error} /> : null}
          {preview.error ? <Trouble error={preview.error} /> : null}
          {wishes.root.trim() && shown ? <GoesWhere preview={shown} /> : null}
        </div>
      </div>
    </div>
  );
}

/** Put frames in an order of one's own: by patterns, shown on one's own frames first, and taken back. */
export function FileAway() {
  const page = useFiling();
  if (page.error && !page.data)
    return (
      <div className="p-6">
        <Trouble error={page.error} onRetry={() => void page.refetch()} />
      </div>
    );
  if (!page.data) return <Waiting what="Looking at what there is to file" />;
  return <Form page={page.data} />;
}
