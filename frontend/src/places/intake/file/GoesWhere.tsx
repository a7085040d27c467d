import type { Schemas } from "../../../api/client";
import { ColumnHead, Scroller } from "../../../parts/basics";

type Preview = Schemas["FilingPreviewOut"];
const several = (n: number) => n.toLocaleString("en");

/** Why frames stay where they are. */
function Staying({ stays }: { stays: Preview["stays"] }) {
  if (stays.length === 0) return null;
  return (
    <ul aria-label="What stays where it is" className="flex flex-col gap-1.5">
      {stays.map((s) => (
        <li key={s.name} className="border-l-4 border-accent pl-2.5">
          <b className="num font-semibold">{several(s.count)}</b> {s.count === 1 ? "stays" : "stay"}: {s.name}
        </li>
      ))}
    </ul>
  );
}

/** The folders that frames go into, drawn as they would stand. */
function Folders({ preview }: { preview: Preview }) {
  return (
    <section className="min-w-0">
      <ColumnHead note={`${several(preview.folders.length + preview.more_folders)} folders`}>
        Folders
      </ColumnHead>
      <Scroller name="Folders" className="max-h-[420px]">
        <ul className="num text-s">
          {preview.folders.map((f) => (
            <li key={f.name} className="flex justify-between gap-3 border-b border-line py-0.5">
              <span className="min-w-0 break-all">{f.name || "(the folder itself)"}</span>
              <span className="text-ink2">{several(f.count)}</span>
            </li>
          ))}
          {preview.more_folders > 0 && (
            <li className="py-1 text-ink2">and {several(preview.more_folders)} more</li>
          )}
        </ul>
      </Scroller>
    </section>
  );
}

/** Frames one by one: where each is, and where it goes. */
function Names({ preview }: { preview: Preview }) {
  const rest = preview.going - preview.rows.filter((r) => !r.stays).length;
  return (
    <section className="min-w-0">
      <ColumnHead>Names</ColumnHead>
      <Scroller name="Names of files" className="max-h-[420px]">
        <ul className="num text-s">
          {preview.rows.map((r) => (
            <li key={r.source} className="border-b border-line py-1">
              <span className="block break-all text-ink2">{r.source}</span>
              {r.stays ? (
                <span className="block text-accent">{r.stays}</span>
              ) : (
                <span className="block break-all">{r.target}</span>
              )}
            </li>
          ))}
          {rest > 0 && <li className="py-1 text-ink2">and {several(rest)} more</li>}
        </ul>
      </Scroller>
    </section>
  );
}

/** What would go where, before anything is touched. */
export function GoesWhere({ preview }: { preview: Preview }) {
  if (preview.trouble)
    return (
      <p role="alert" className="border-l-4 border-accent bg-card px-3 py-2">
        <b className="font-semibold">{preview.trouble}</b> {preview.advice}
      </p>
    );
  return (
    <>
      <Staying stays={preview.stays} />
      {preview.going > 0 && (
        <div className="grid grid-cols-[2fr_3fr] gap-6 max-lg:grid-cols-1">
          <Folders preview={preview} />
          <Names preview={preview} />
        </div>
      )}
    </>
  );
}
