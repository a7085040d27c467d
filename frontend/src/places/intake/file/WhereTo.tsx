import { api, get, type Schemas } from "../../../api/client";
import { useChange } from "../../../api/hooks";
import { ColumnHead, Segments, Trouble } from "../../../parts/basics";
import { FIELD } from "../WhichFrames";

export type Wishes = Pick<Schemas["FilingIn"], "root" | "patterns" | "unknown" | "way" | "along">;

/** The folder that is filed into, and how files come there. */
export function WhereTo({ wishes, onChange }: { wishes: Wishes; onChange: (wishes: Wishes) => void }) {
  return (
    <section className="flex flex-col gap-2">
      <ColumnHead>Where to</ColumnHead>
      <label className="flex flex-col gap-1 text-s text-ink2">
        The folder they are filed into
        <input
          value={wishes.root}
          placeholder="/home/…/frames"
          spellCheck={false}
          onChange={(event) => onChange({ ...wishes, root: event.target.value })}
          className={`num text-m text-ink placeholder:text-ink2 ${FIELD}`}
        />
      </label>
      <p>
        <Segments
          label="How"
          value={wishes.way}
          options={[
            { value: "move", label: "move them" },
            { value: "copy", label: "copy them" },
          ]}
          onChange={(way) => onChange({ ...wishes, way })}
        />
      </p>
      <p className="text-s text-ink2">
        {wishes.way === "move"
          ? "On one disk they get another name; to another they are copied, read back and compared before the old ones go."
          : "Each copy is read back and compared. The library goes by the copies from then on; the originals stay."}
      </p>
      <label className="flex items-center gap-2">
        <input
          type="checkbox"
          checked={wishes.along}
          onChange={(event) => onChange({ ...wishes, along: event.target.checked })}
        />
        Notes and logs go along with their folder
      </label>
      <label className="flex items-center gap-2">
        What is not known becomes
        <input
          value={wishes.unknown}
          onChange={(event) => onChange({ ...wishes, unknown: event.target.value })}
          className={`num w-28 ${FIELD}`}
        />
      </label>
    </section>
  );
}

/** Folders from which what comes in is filed by itself. */
export function FromNowOn({ page }: { page: Schemas["FilingOut"] }) {
  const keep = useChange((folder_ids: number[]) =>
    get(api.PUT("/api/filing/from-now-on", { body: { folder_ids } })),
  );
  const others = page.folders.filter((f) => f.path !== page.root);
  if (!page.root || others.length === 0) return null;
  return (
    <section>
      <ColumnHead>From now on</ColumnHead>
      <p className="pt-1 text-s text-ink2">
        What comes new into these is filed by itself, as it was filed last.
      </p>
      <ul>
        {others.map((f) => (
          <li key={f.id}>
            <label className="flex items-center gap-2 py-0.5 max-md:py-2">
              <input
                type="checkbox"
                checked={page.from_now_on.includes(f.id)}
                disabled={keep.isPending}
                onChange={(event) =>
                  keep.mutate(
                    event.target.checked
                      ? [...page.from_now_on, f.id]
                      : page.from_now_on.filter((id) => id !== f.id),
                  )
                }
              />
              <span className={`min-w-0 text-s break-all ${f.label === f.path ? "num" : ""}`}>{f.label}</span>
            </label>
          </li>
        ))}
      </ul>
      {keep.error ? <Trouble error={keep.error} /> : null}
    </section>
  );
}
