import { api, get, type Schemas } from "../../api/client";
import { Button } from "../../parts/basics";
import { FilterStamp } from "../../parts/FilterStamp";
import { NumberBox, TextBox } from "./fields";
import { MoverField } from "./MoverField";
import { Sheet } from "./SheetFrame";

type Rig = Schemas["RigOut"];
type Filter = Schemas["FilterSheet"];

const NEW: Filter = {
  code: "",
  name: "",
  centre_nm: null,
  width_nm: null,
  gain: null,
  focus: null,
  brightness: null,
};
/** A filter that headers name, with what its name lets expect. */
const named = ({ code, centre_nm, width_nm }: Rig["seen_filters"][number]): Filter => ({
  ...NEW,
  code,
  centre_nm,
  width_nm,
});
const COLUMNS = ["Code", "Name", "Centre, nm", "Width, nm", "Usual gain", "Focus", ""];

function Line({
  filter,
  set,
  onRemove,
}: {
  filter: Filter;
  set: (values: Partial<Filter>) => void;
  onRemove: () => void;
}) {
  const name = filter.code || "the new filter";
  const number = (field: "centre_nm" | "width_nm" | "gain" | "focus", label: string) => (
    <td className="py-0.5 pr-2">
      <NumberBox
        label={`${label} of ${name}`}
        value={filter[field]}
        width="w-20"
        onChange={(v) => set({ [field]: v })}
      />
    </td>
  );
  return (
    <tr>
      <td className="py-0.5 pr-2">
        <span className="flex items-center gap-1.5">
          <TextBox
            label={`Code of ${name}`}
            width="w-16"
            value={filter.code}
            onChange={(v) => set({ code: v })}
          />
          {filter.code && <FilterStamp code={filter.code} nm={filter.centre_nm} />}
        </span>
      </td>
      <td className="py-0.5 pr-2">
        <TextBox
          label={`Name of ${name}`}
          width="w-36"
          value={filter.name ?? ""}
          onChange={(v) => set({ name: v })}
        />
      </td>
      {number("centre_nm", "Centre")}
      {number("width_nm", "Width")}
      {number("gain", "Usual gain")}
      {number("focus", "Focus")}
      <td>
        <button type="button" aria-label={`Take ${name} out`} className="size-8" onClick={onRemove}>
          ×
        </button>
      </td>
    </tr>
  );
}

/** The filters in their order, and who changes them; those that headers name are put in with a click. */
export function FiltersForm({ data }: { data: Rig }) {
  const device = data.parts.find((p) => p.kind === "filters")?.moved_by === "rig";
  return (
    <Sheet
      title="Filters"
      note="in the order of the wheel"
      rig={data.id}
      begin={data.sheets.filters}
      keep={(body) =>
        get(api.PUT("/api/rigs/{rig_id}/sheets/filters", { params: { path: { rig_id: data.id } }, body }))
      }
    >
      {(t, set) => {
        const change = (i: number, values: Partial<Filter>) =>
          set({ filters: t.filters.map((f, j) => (j === i ? { ...f, ...values } : f)) });
        const seen = data.seen_filters.filter((s) => !t.filters.some((f) => f.code === s.code));
        return (
          <>
            {!device && (
              <MoverField
                label="Who changes them"
                value={t.moved_by ?? ""}
                onChange={(v) => set({ moved_by: v })}
              />
            )}
            <div className="overflow-x-auto">
              <table className="text-left">
                <thead>
                  <tr className="text-s text-ink2">
                    {COLUMNS.map((c) => (
                      <th key={c} scope="col" className="pr-2 font-normal">
                        {c || <span className="sr-only">What to do</span>}
                      </th>
                    ))}
                  </tr>
                </thead>
                <tbody>
                  {t.filters.map((f, i) => (
                    <Line
                      key={i}
                      filter={f}
                      set={(values) => change(i, values)}
                      onRemove={() => set({ filters: t.filters.filter((_, j) => j !== i) })}
                    />
                  ))}
                </tbody>
              </table>
            </div>
            <span className="flex flex-wrap items-center gap-2 pt-1">
              <Button onClick={() => set({ filters: [...t.filters, NEW] })}>Add a filter</Button>
              {seen.length > 1 && (
                <Button look="ink" onClick={() => set({ filters: [...t.filters, ...seen.map(named)] })}>
                  Put all {seen.length} in that frames name
                </Button>
              )}
              {seen.map((s) => (
                <Button key={s.code} onClick={() => set({ filters: [...t.filters, named(s)] })}>
                  Put {s.code} in, {s.frames} frames name it
                </Button>
              ))}
            </span>
          </>
        );
      }}
    </Sheet>
  );
}
