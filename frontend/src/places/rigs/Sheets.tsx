import { useState, type ReactNode } from "react";
import { Link } from "react-router";

import { api, get, type Schemas } from "../../api/client";
import { useChange } from "../../api/hooks";
import { Button, ColumnHead, Trouble } from "../../parts/basics";
import { LightSheet } from "../../parts/LightSheet";
import { Choice, Field, NumberBox, TextBox, YesNo } from "./fields";
import { FiltersForm } from "./FiltersForm";
import { Spellings } from "./Names";
import type { Kind } from "./Glyphs";
import { MountForm } from "./MountForm";

type Rig = Schemas["RigOut"];
type MovedBy = Schemas["PartOut"]["moved_by"];
type Changed = Schemas["SheetChangedOut"];

const path = (rig: number) => ({ params: { path: { rig_id: rig } } });

/** A sheet that is typed and kept; what was kept can be taken back at once. */
export function Sheet<T>({
  title,
  note,
  rig,
  begin,
  keep,
  children,
}: {
  title: string;
  note?: string;
  rig: number;
  begin: T;
  keep: (typed: T) => Promise<Changed>;
  children: (typed: T, set: (values: Partial<T>) => void) => ReactNode;
}) {
  const [typed, setTyped] = useState(begin);
  const [shown, setShown] = useState(begin);
  // What was kept, or taken back, comes back from the server: the sheet shows it, and still says what was done.
  if (JSON.stringify(shown) !== JSON.stringify(begin)) {
    setShown(begin);
    setTyped(begin);
  }
  const kept = useChange(keep);
  const back = useChange((id: number) =>
    get(
      api.POST("/api/rigs/{rig_id}/changes/{change_id}/take-back", {
        params: { path: { rig_id: rig, change_id: id } },
      }),
    ),
  );
  const changed = JSON.stringify(typed) !== JSON.stringify(begin);
  const id = kept.data?.change_id;
  return (
    <form
      onSubmit={(event) => {
        event.preventDefault();
        back.reset();
        kept.mutate(typed);
      }}
    >
      <ColumnHead note={note}>{title}</ColumnHead>
      <div className="flex flex-col gap-1.5 pt-3">
        {children(typed, (values) => setTyped((t) => ({ ...t, ...values })))}
      </div>
      <div className="flex min-h-9 flex-wrap items-center gap-3 pt-3">
        <Button look="ink" type="submit" disabled={!changed || kept.isPending}>
          Keep this
        </Button>
        {changed && (
          <Button look="link" onClick={() => setTyped(begin)}>
            Leave it as it was
          </Button>
        )}
        {kept.data && !kept.error && !changed && (
          <span role="status" className="text-s text-ink2">
            {(back.data ?? kept.data).message}{" "}
            {id != null && !back.data && (
              <button type="button" className="underline" onClick={() => back.mutate(id)}>
                Take it back
              </button>
            )}
          </span>
        )}
      </div>
      {(kept.error ?? back.error) && <Trouble error={kept.error ?? back.error} />}
    </form>
  );
}

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

const SHUTTERS = [
  { value: "", label: "not said" },
  { value: "electronic", label: "electronic" },
  { value: "slow", label: "slow leaves or a disc" },
  { value: "curtain", label: "a curtain" },
] as const;
const GAIN_WORDS = [
  { value: "", label: "as its headers say" },
  { value: "gain", label: "gain" },
  { value: "ISO", label: "ISO" },
] as const;

type Camera = Schemas["CameraSheet"];
interface Typing {
  t: Camera;
  set: (values: Partial<Camera>) => void;
}

function CameraCooling({ t, set }: Typing) {
  return (
    <>
      <Field label="Cooler">
        <YesNo
          value={t.cooled}
          yes="it has one"
          no="it has none"
          onChange={(v) => set({ cooled: v, ...(v === false ? { below_air_c: null } : {}) })}
        />
      </Field>
      {t.cooled !== false && (
        <Field label="Holds the sensor below the air by" unit="°C">
          <NumberBox value={t.below_air_c} onChange={(v) => set({ below_air_c: v })} />
        </Field>
      )}
    </>
  );
}

function CameraExposing({ t, set }: Typing) {
  return (
    <>
      <Field label="Shutter">
        <Choice
          value={t.shutter ?? ""}
          options={[...SHUTTERS]}
          onChange={(v) => set({ shutter: v === "" ? null : v })}
        />
      </Field>
      <Field label="Shortest exposure" unit="s">
        <NumberBox value={t.shortest_s} onChange={(v) => set({ shortest_s: v })} />
      </Field>
      <Field label="Shortest that repeats" unit="s">
        <NumberBox value={t.repeatable_from_s} onChange={(v) => set({ repeatable_from_s: v })} />
      </Field>
      <Field label="First frames of a series set aside" unit="">
        <NumberBox value={t.drop_first} onChange={(v) => set({ drop_first: v })} />
      </Field>
      <Field label="Pause between frames" unit="s">
        <NumberBox value={t.pause_s} onChange={(v) => set({ pause_s: v })} />
      </Field>
      <Field label="Bias">
        <YesNo value={t.bias_usable} yes="usable" no="not usable" onChange={(v) => set({ bias_usable: v })} />
      </Field>
    </>
  );
}

function CameraNoise({ t, set }: Typing) {
  return (
    <>
      <Field label="Converter" unit="bits">
        <NumberBox value={t.bits} onChange={(v) => set({ bits: v })} />
      </Field>
      <Field label="Its levels">
        <YesNo
          value={t.shifted}
          yes="shifted to fill 16 bits"
          no="as they are"
          onChange={(v) => set({ shifted: v })}
        />
      </Field>
      <Field label="Offsets from">
        <NumberBox
          label="Lowest offset"
          width="w-20"
          value={t.offset_lowest}
          onChange={(v) => set({ offset_lowest: v })}
        />
        to
        <NumberBox
          label="Highest offset"
          width="w-20"
          value={t.offset_highest}
          onChange={(v) => set({ offset_highest: v })}
        />
      </Field>
      <Field label="Its gain is called">
        <Choice
          value={t.gain_word ?? ""}
          options={[...GAIN_WORDS]}
          onChange={(v) => set({ gain_word: v === "" ? null : v })}
        />
      </Field>
      <Field label="Read noise, where the Bench has none" unit="e⁻">
        <NumberBox value={t.read_noise_e} onChange={(v) => set({ read_noise_e: v })} placeholder="3.5" />
      </Field>
      <Field label="Dark current" unit="e⁻/s">
        <NumberBox value={t.dark_rate_e_s} onChange={(v) => set({ dark_rate_e_s: v })} placeholder="0.003" />
      </Field>
      <Field label="at" unit="°C">
        <NumberBox value={t.dark_rate_at_c} onChange={(v) => set({ dark_rate_at_c: v })} placeholder="−10" />
      </Field>
    </>
  );
}

function CameraForm({ data }: { data: Rig }) {
  const others = data.other_rigs;
  return (
    <Sheet
      title={data.camera}
      note={others.length ? `also in ${others.join(", ")}: shared with it` : undefined}
      rig={data.id}
      begin={data.sheets.camera}
      keep={(body) => get(api.PUT("/api/rigs/{rig_id}/sheets/camera", { ...path(data.id), body }))}
    >
      {(t, set) => (
        <div className="grid grid-cols-2 gap-x-8 max-lg:grid-cols-1">
          <div className="flex flex-col gap-1.5">
            <CameraCooling t={t} set={set} />
            <CameraNoise t={t} set={set} />
          </div>
          <div className="flex flex-col gap-1.5">
            <CameraExposing t={t} set={set} />
          </div>
        </div>
      )}
    </Sheet>
  );
}

const MOVERS: { value: MovedBy; label: string }[] = [
  { value: "", label: "nobody said" },
  { value: "hand", label: "a hand" },
  { value: "fixed", label: "nobody: it stays as it is" },
  { value: "absent", label: "it is not there" },
];

export function MoverField({
  value,
  onChange,
  label,
}: {
  value: MovedBy;
  onChange: (v: MovedBy) => void;
  label: string;
}) {
  return (
    <Field label={label}>
      <Choice value={value} options={MOVERS} onChange={onChange} />
    </Field>
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
          <Field label="Name">
            <TextBox value={t.name ?? ""} placeholder={data.site_name} onChange={(v) => set({ name: v })} />
          </Field>
          <Field label="Latitude, south negative" unit="°">
            <NumberBox value={t.latitude} onChange={(v) => set({ latitude: v })} />
          </Field>
          <Field label="Longitude, west negative" unit="°">
            <NumberBox value={t.longitude} onChange={(v) => set({ longitude: v })} />
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
          <LightSheet
            key={data.sheets.light?.name}
            lights={data.lights}
            current={data.sheets.light?.name ?? ""}
            rig={data.id}
          />
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
