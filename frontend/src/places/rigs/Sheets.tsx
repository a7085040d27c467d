import { Link } from "react-router";

import { api, get, type Schemas } from "../../api/client";
import { usePlaceOfRig } from "../../api/hooks";
import { Degrees } from "../../parts/Degrees";
import { LightSheet } from "../../parts/LightSheet";
import { PlaceTold } from "../../parts/PlaceTold";
import { Choice, Field, NumberBox, TextBox } from "./fields";
import { FiltersForm } from "./FiltersForm";
import { Spellings } from "./Names";
import type { Kind } from "./Glyphs";
import { MountForm } from "./MountForm";
import { CameraForm } from "./CameraForm";
import { MoverField } from "./MoverField";
import { type Rig, Sheet, path } from "./SheetFrame";

function TelescopeForm({ data }: { data: Rig }) {
  return (
    <Sheet
      title={data.telescope ?? "Telescope"}
      note="aperture and focal length as it is used"
      rig={data.id}
      begin={data.sheets.telescope}
      keep={(body) => get(api.PUT("/api/rigs/{rig_id}/sheets/telescope", { ...path(data.id), body }))}
    >
      {(t, set) => (
        <>
          <Field label="Aperture" unit="mm">
            <NumberBox value={t.aperture_mm} onChange={(v) => set({ aperture_mm: v })} />
          </Field>
          <Field label="Focal length, with the reducer" unit="mm">
            <NumberBox value={t.focal_length_mm} onChange={(v) => set({ focal_length_mm: v })} />
          </Field>
          <Field label="Reducer or extender">
            <TextBox value={t.reducer ?? ""} placeholder="none" onChange={(v) => set({ reducer: v })} />
          </Field>
        </>
      )}
    </Sheet>
  );
}

type Movable = "cover" | "rotator" | "focuser";

const MEANS: Record<Movable, [string, string]> = {
  cover: ["Who closes it", "The cap is asked for at a gate where nothing closes by itself."],
  rotator: [
    "Who turns the camera",
    "Where it stays, angles are not judged: flats of any night fit in this respect.",
  ],
  focuser: ["Who sets the focus", "Where it stays, focus positions are not judged."],
};

function PartForm({ data, kind, title }: { data: Rig; kind: Movable; title: string }) {
  const part = data.parts.find((p) => p.kind === kind);
  const [who, means] = MEANS[kind];
  const device = part?.moved_by === "rig";
  return (
    <Sheet
      title={title}
      rig={data.id}
      begin={data.sheets[kind]}
      keep={(body) =>
        get(
          api.PUT("/api/rigs/{rig_id}/sheets/parts/{kind}", {
            params: { path: { rig_id: data.id, kind } },
            body,
          }),
        )
      }
    >
      {(t, set) => (
        <>
          <Field label="Name">
            <TextBox value={t.name ?? ""} onChange={(v) => set({ name: v })} />
          </Field>
          {device ? (
            <p>A device moves it.</p>
          ) : (
            <MoverField label={who} value={t.moved_by ?? ""} onChange={(v) => set({ moved_by: v })} />
          )}
          <p className="text-s text-ink2">{means}</p>
        </>
      )}
    </Sheet>
  );
}

/** Where the rig stands, where that is not the library's site. */
function SiteForm({ data }: { data: Rig }) {
  const told = usePlaceOfRig(data.id).data?.told;
  return (
    <Sheet
      title="Site"
      rig={data.id}
      begin={data.sheets.site}
      keep={(body) =>
        get(api.PUT("/api/rigs/{rig_id}/sheets/site", { params: { path: { rig_id: data.id } }, body }))
      }
    >
      {(t, set) => (
        <>
          {data.other_sites.length > 0 && (
            <Field label="One that is known">
              <Choice
                label="One that is known"
                value={t.name ?? ""}
                onChange={(name) =>
                  set(
                    data.other_sites.find((s) => s.name === name) ?? {
                      name: "",
                      latitude: null,
                      longitude: null,
                      time_zone: "",
                    },
                  )
                }
                options={[
                  { value: "", label: `the library’s, ${data.site_name}` },
                  ...data.other_sites.map((s) => ({ value: s.name ?? "", label: s.name ?? "" })),
                ]}
              />
            </Field>
          )}
          {told && (
            <PlaceTold
              told={told}
              take={t.latitude === told.latitude && t.longitude === told.longitude ? "" : "Take this place"}
              onTake={({ latitude, longitude }) => set({ latitude, longitude })}
            />
          )}
          <Field label="Name">
            <TextBox value={t.name ?? ""} placeholder={data.site_name} onChange={(v) => set({ name: v })} />
          </Field>
          <Field label="Latitude, south negative" unit="°">
            <Degrees value={t.latitude} onChange={(v) => set({ latitude: v || null })} />
          </Field>
          <Field label="Longitude, west negative" unit="°">
            <Degrees value={t.longitude} onChange={(v) => set({ longitude: v || null })} />
          </Field>
          <Field label="Time zone">
            <input
              list="rig-zones"
              aria-label="Time zone"
              placeholder="as the library"
              className="h-8 w-48 rounded-sm border border-rule bg-card px-2 max-md:h-11"
              value={t.time_zone ?? ""}
              onChange={(e) => set({ time_zone: e.target.value })}
            />
          </Field>
          <datalist id="rig-zones">
            {data.zones.map((z) => (
              <option key={z} value={z} />
            ))}
          </datalist>
          <p className="text-s text-ink2">
            Nights run from noon to noon by its clock, and its place tells the sun’s course. Left empty, the
            rig stands at the site of the library, which is set in{" "}
            <Link to="/intake" className="underline">
              Intake
            </Link>
            .
          </p>
        </>
      )}
    </Sheet>
  );
}

/** How headers write it otherwise. */
function Written({ data, about }: { data: Rig; about: Schemas["NameIn"]["about"] }) {
  return <Spellings spellings={data.spellings.filter((way) => way.about === about)} />;
}

/** The sheet of a part that was pulled. */
export function PartSheet({ data, kind }: { data: Rig; kind: Kind }) {
  const part = data.parts.find((p) => p.kind === kind);
  switch (kind) {
    case "light":
      return (
        <div className="max-w-[520px]">
          <LightSheet lights={data.lights} current={data.sheets.light?.name ?? ""} rig={data.id} />
          <p className="pt-2 text-s text-ink2">
            How it follows its brightness is measured on the{" "}
            <Link to="/bench/flats" className="underline">
              Bench
            </Link>
            .
          </p>
        </div>
      );
    case "telescope":
      return (
        <>
          <TelescopeForm data={data} />
          <Written data={data} about="telescope" />
        </>
      );
    case "camera":
      return (
        <>
          <CameraForm data={data} />
          <Written data={data} about="camera" />
        </>
      );
    case "filters":
      return (
        <>
          <FiltersForm data={data} />
          <Written data={data} about="filter" />
        </>
      );
    case "site":
      return <SiteForm data={data} />;
    case "mount":
      return <MountForm data={data} />;
    default:
      return <PartForm key={kind} data={data} kind={kind} title={part?.title ?? ""} />;
  }
}
