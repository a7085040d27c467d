import type { Schemas } from "../../api/client";
import { ColumnHead } from "../../parts/basics";
import type { Meant } from "./meant";

type Page = Pick<Schemas["MendOut"], "folders" | "cameras" | "kinds" | "may_lack">;
export const FIELD = "h-8 min-w-0 rounded-sm border border-rule bg-card px-2 max-md:h-11";

/** One choice of a list, where an empty one does not matter. */
function Choice({
  label,
  value,
  options,
  onChange,
}: {
  label: string;
  value: string;
  options: { value: string; label: string }[];
  onChange: (value: string) => void;
}) {
  return (
    <label className="flex min-w-0 flex-col gap-1 text-s text-ink2">
      {label}
      <select
        value={value}
        onChange={(event) => onChange(event.target.value)}
        className={`text-m text-ink ${FIELD}`}
      >
        <option value="">any</option>
        {options.map((o) => (
          <option key={o.value} value={o.value}>
            {o.label}
          </option>
        ))}
      </select>
    </label>
  );
}

const listed = (values: string[]) => values.map((v) => ({ value: v, label: v }));

/** Which frames are meant: by what they share. */
export function WhichFrames({
  page,
  meant,
  note,
  onChange,
}: {
  page: Page;
  meant: Meant;
  note: string;
  onChange: (meant: Meant) => void;
}) {
  const set = (change: Partial<Meant>) => onChange({ ...meant, ...change });
  const typed = (label: string, name: "below" | "nameHas" | "night", type: string, hint = "") => (
    <label className="flex min-w-0 flex-col gap-1 text-s text-ink2">
      {label}
      <input
        type={type}
        value={meant[name]}
        placeholder={hint}
        spellCheck={false}
        onChange={(event) => set({ [name]: event.target.value })}
        className={`num text-m text-ink placeholder:text-ink2 ${FIELD}`}
      />
    </label>
  );
  return (
    <section aria-label="Which frames">
      <ColumnHead note={note}>Which frames</ColumnHead>
      <div className="grid grid-cols-4 gap-x-3 gap-y-1.5 pt-2 max-lg:grid-cols-2">
        <Choice
          label="Folder"
          value={meant.folder === null ? "" : String(meant.folder)}
          options={page.folders.map((f) => ({ value: String(f.id), label: f.label }))}
          onChange={(v) => set({ folder: v ? Number(v) : null, below: "" })}
        />
        {typed("Folder in it", "below", "text", "any")}
        {typed("A part of the name", "nameHas", "text", "any")}
        {typed("Night", "night", "date")}
        <Choice
          label="Camera"
          value={meant.camera}
          options={listed([...page.cameras, "not known"])}
          onChange={(camera) => set({ camera })}
        />
        <Choice
          label="Kind"
          value={meant.kind}
          options={listed([...page.kinds, "not known"])}
          onChange={(kind) => set({ kind })}
        />
        <Choice
          label="What they lack"
          value={meant.lacks}
          options={listed(page.may_lack)}
          onChange={(lacks) => set({ lacks })}
        />
      </div>
    </section>
  );
}
