import { api, get, type Schemas } from "../../api/client";
import { Choice, Field, NumberBox, YesNo } from "./fields";
import { path, type Rig, Sheet } from "./SheetFrame";

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

export function CameraForm({ data }: { data: Rig }) {
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
