import type { Schemas } from "../../../api/client";
import { ColumnHead } from "../../../parts/basics";
import { PatternField } from "../PatternField";
import { FIELD } from "../WhichFrames";
import { noNumbers, type Typed } from "./typed";

type Page = Schemas["MendOut"];

const FIELDS: { name: string; label: string; unit?: string; list?: "cameras" | "filters" }[] = [
  { name: "filter_code", label: "Filter", list: "filters" },
  { name: "gain", label: "Gain or ISO" },
  { name: "offset", label: "Offset" },
  { name: "exposure_s", label: "Exposure", unit: "s" },
  { name: "sensor_temp_c", label: "Sensor", unit: "°C" },
  { name: "binning", label: "Binning" },
  { name: "angle_deg", label: "Angle", unit: "°" },
  { name: "focus", label: "Focus", unit: "steps" },
  { name: "target", label: "Target" },
  { name: "camera", label: "Camera", list: "cameras" },
  { name: "telescope", label: "Telescope" },
  { name: "focal_length_mm", label: "Focal length", unit: "mm" },
];

/** A clock that was wrong, put right for all of them. */
function Clock({ typed, set }: { typed: Typed; set: (name: string, value: string) => void }) {
  const small = (name: string, label: string) => (
    <input
      aria-label={label}
      inputMode="decimal"
      value={typed[name] ?? ""}
      onChange={(event) => set(name, event.target.value)}
      className={`num w-14 text-right ${FIELD}`}
    />
  );
  return (
    <p className="flex flex-wrap items-center gap-2 pt-2">
      Their clock was {small("hours", "Hours the clock was off")} h{" "}
      {small("minutes", "Minutes the clock was off")} min
      <select
        aria-label="Which way the clock was off"
        value={typed.clock ?? "behind"}
        onChange={(event) => set("clock", event.target.value)}
        className={FIELD}
      >
        <option value="behind">behind</option>
        <option value="ahead">ahead</option>
      </select>
    </p>
  );
}

/** What is said of the frames: values, what their names have, the clock, whether they are kept. */
export function WhatIsSaid({
  page,
  typed,
  onChange,
}: {
  page: Page;
  typed: Typed;
  onChange: (typed: Typed) => void;
}) {
  const set = (name: string, value: string) => onChange({ ...typed, [name]: value });
  const wrong = noNumbers(typed);
  return (
    <section aria-label="What is said of them">
      <ColumnHead note="what is left empty stays as it is">What is said of them</ColumnHead>
      <div className="grid grid-cols-6 gap-x-3 gap-y-1.5 pt-2 max-lg:grid-cols-2">
        <label className="flex min-w-0 flex-col gap-1 text-s text-ink2">
          Kind
          <select
            value={typed.kind ? `${typed.master === "yes" ? "master " : ""}${typed.kind}` : ""}
            onChange={(event) => {
              const master = event.target.value.startsWith("master ");
              onChange({
                ...typed,
                kind: event.target.value.replace("master ", ""),
                master: master ? "yes" : "",
              });
            }}
            className={`text-m text-ink ${FIELD}`}
          >
            <option value="" />
            {page.kinds.map((k) => (
              <option key={k}>{k}</option>
            ))}
            {page.kinds
              .filter((k) => k !== "light")
              .map((k) => (
                <option key={`master ${k}`}>master {k}</option>
              ))}
          </select>
        </label>
        {FIELDS.map((f) => (
          <label key={f.name} className="flex min-w-0 flex-col gap-1 text-s text-ink2">
            {f.unit ? `${f.label}, ${f.unit}` : f.label}
            <input
              value={typed[f.name] ?? ""}
              list={f.list ? `mend-${f.list}` : undefined}
              aria-invalid={wrong.includes(f.name)}
              spellCheck={false}
              onChange={(event) => set(f.name, event.target.value)}
              className={`num text-m text-ink ${FIELD} ${wrong.includes(f.name) ? "border-accent" : ""}`}
            />
          </label>
        ))}
        <label className="flex min-w-0 flex-col gap-1 text-s text-ink2">
          Night
          <input
            type="date"
            value={typed.night ?? ""}
            onChange={(event) => set("night", event.target.value)}
            className={`num text-m text-ink ${FIELD}`}
          />
        </label>
        <label className="flex min-w-0 flex-col gap-1 text-s text-ink2">
          Kept
          <select
            value={typed.kept ?? ""}
            onChange={(event) => set("kept", event.target.value)}
            className={`text-m text-ink ${FIELD}`}
          >
            <option value="" />
            <option>yes</option>
            <option>no</option>
          </select>
        </label>
        <label className="flex min-w-0 flex-col gap-1 text-s text-ink2">
          As the rig
          <select
            value=""
            onChange={(event) => {
              const train = page.trains.find((t) => t.rig === event.target.value);
              if (train)
                onChange({
                  ...typed,
                  camera: train.camera,
                  telescope: train.telescope,
                  focal_length_mm: train.focal_length_mm?.toString() ?? "",
                });
            }}
            className={`text-m text-ink ${FIELD}`}
          >
            <option value="" />
            {page.trains.map((t) => (
              <option key={t.rig}>{t.rig}</option>
            ))}
          </select>
        </label>
      </div>
      {(["cameras", "filters"] as const).map((list) => (
        <datalist key={list} id={`mend-${list}`}>
          {page[list].map((v) => (
            <option key={v} value={v} />
          ))}
        </datalist>
      ))}
      {wrong.length > 0 && (
        <p role="alert" className="pt-1 text-accent">
          {wrong.map((name) => `‘${typed[name]}’`).join(", ")}{" "}
          {wrong.length === 1 ? "is no number." : "are no numbers."}
        </p>
      )}
      <div className="pt-2">
        <PatternField
          label="Read from their names, by a pattern"
          hint="{kind}_{exposure}_{gain}_*"
          parts={[...page.parts, { key: "*", label: "anything" }]}
          value={typed.pattern ?? ""}
          onChange={(text) => set("pattern", text)}
        />
      </div>
      <Clock typed={typed} set={set} />
    </section>
  );
}
