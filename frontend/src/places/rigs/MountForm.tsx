import { api, get, type Schemas } from "../../api/client";
import { Choice, Field, NumberBox, TextBox } from "./fields";
import { MoverField } from "./MoverField";
import { Sheet } from "./SheetFrame";

type Mount = Schemas["MountSheet"];

const AFTER: { value: NonNullable<Mount["after"]>; label: string }[] = [
  { value: "stay", label: "stays where it is" },
  { value: "park", label: "goes to its parking place" },
  { value: "home", label: "goes home" },
];

/** Where a driven mount points for flats. */
function Pointing({ t, set }: { t: Mount; set: (values: Partial<Mount>) => void }) {
  return (
    <>
      <Field label="Panel on a wall: altitude" unit="°">
        <NumberBox value={t.panel_altitude_deg} onChange={(v) => set({ panel_altitude_deg: v })} />
      </Field>
      <Field label="… azimuth, north 0, east 90" unit="°">
        <NumberBox value={t.panel_azimuth_deg} onChange={(v) => set({ panel_azimuth_deg: v })} />
      </Field>
      <Field label="Never lower on the sky than" unit="°">
        <NumberBox value={t.horizon_deg} onChange={(v) => set({ horizon_deg: v ?? 0 })} />
      </Field>
      <Field label="After flats it">
        <Choice
          label="After flats it"
          value={t.after ?? "stay"}
          onChange={(v) => set({ after: v })}
          options={AFTER}
        />
      </Field>
    </>
  );
}

/** What the rig stands on; where a device points it, where it points for flats. */
export function MountForm({ data }: { data: Schemas["RigOut"] }) {
  const driven = data.parts.find((p) => p.kind === "mount")?.moved_by === "rig";
  return (
    <Sheet
      title="Mount"
      rig={data.id}
      begin={data.sheets.mount}
      keep={(body) =>
        get(api.PUT("/api/rigs/{rig_id}/sheets/mount", { params: { path: { rig_id: data.id } }, body }))
      }
    >
      {(t, set) => (
        <>
          <Field label="Name">
            <TextBox value={t.name ?? ""} onChange={(v) => set({ name: v })} />
          </Field>
          {driven ? (
            <Pointing t={t} set={set} />
          ) : (
            <MoverField
              label="Who points it"
              value={t.moved_by ?? ""}
              onChange={(v) => set({ moved_by: v })}
            />
          )}
          <p className="text-s text-ink2">
            {driven
              ? "For flats of the sky it points high, on the side away from the sun, and stands still."
              : "The telescope has to face the light before flats."}
          </p>
        </>
      )}
    </Sheet>
  );
}
