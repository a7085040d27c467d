import { useState, type ReactNode } from "react";

import { api, get, type Schemas } from "../../../api/client";
import { useChange } from "../../../api/hooks";
import { Button, Segments, Trouble } from "../../../parts/basics";
import { NO_WISHES, type Row, type Wishes } from "./keys";
import { filterName } from "../../../parts/filterName";
import { NumberField } from "../../../parts/NumberField";

type Unit = "level_percent" | "level_adu" | "level_electrons";
type Tolerance = "tolerance_percent" | "tolerance_adu";

const UNITS: { value: Unit; label: string }[] = [
  { value: "level_percent", label: "%" },
  { value: "level_adu", label: "ADU" },
  { value: "level_electrons", label: "e⁻" },
];
const TOLERANCES: { value: Tolerance; label: string }[] = [
  { value: "tolerance_percent", label: "% of target" },
  { value: "tolerance_adu", label: "ADU" },
];
const MODES = [
  { value: "time", label: "Time" },
  { value: "brightness", label: "Brightness" },
  { value: "both", label: "Both" },
] as const;

const box = "num h-8 rounded-sm border border-rule bg-card px-2 text-right";
const words = "h-8 rounded-sm border border-rule bg-card px-2";

function Field({ label, children }: { label: string; children: ReactNode }) {
  return (
    <label className="flex flex-col gap-1 text-s text-ink2">
      {label}
      <span className="flex items-center gap-1.5 text-m text-ink">{children}</span>
    </label>
  );
}

function NumberBox({
  value,
  onChange,
  width = "w-20",
  label,
}: {
  value: number | null | undefined;
  onChange: (value: number | null) => void;
  width?: string;
  label: string;
}) {
  return <NumberField aria-label={label} className={`${box} ${width}`} value={value} onChange={onChange} />;
}

interface Wished {
  now: Wishes;
  set: (values: Wishes) => void;
}

/** The level that is aimed at, and how near is near enough. */
function LevelFields({ now, set }: Wished) {
  const unit: Unit = UNITS.find((u) => now[u.value] != null)?.value ?? "level_percent";
  const slack: Tolerance = TOLERANCES.find((t) => now[t.value] != null)?.value ?? "tolerance_percent";
  const noLevel = { level_percent: null, level_adu: null, level_electrons: null };
  return (
    <>
      <Field label="Target">
        <NumberBox
          label="Target"
          value={now[unit]}
          onChange={(value) => set({ [unit]: value })}
          width="w-24"
        />
        <Segments
          label="Unit of the target"
          value={unit}
          options={UNITS}
          onChange={(value) => set({ ...noLevel, [value]: now[value] ?? null })}
        />
      </Field>
      <Field label="Tolerance, ±">
        <NumberBox label="Tolerance" value={now[slack]} onChange={(value) => set({ [slack]: value })} />
        <Segments
          label="Unit of the tolerance"
          value={slack}
          options={TOLERANCES}
          onChange={(value) =>
            set({ tolerance_percent: null, tolerance_adu: null, [value]: now[value] ?? null })
          }
        />
      </Field>
    </>
  );
}

/** The exposures that are permitted, with the reasons. */
function WindowFields({ now, set }: Wished) {
  return (
    <>
      <Field label="Shortest, s, and why">
        <NumberBox label="Shortest" value={now.shortest_s} onChange={(v) => set({ shortest_s: v })} />
        <input
          aria-label="Why not shorter"
          className={`${words} w-44`}
          value={now.shortest_reason ?? ""}
          onChange={(e) => set({ shortest_reason: e.target.value })}
        />
      </Field>
      <Field label="Longest, s, and why">
        <NumberBox label="Longest" value={now.longest_s} onChange={(v) => set({ longest_s: v })} />
        <input
          aria-label="Why not longer"
          className={`${words} w-28`}
          value={now.longest_reason ?? ""}
          onChange={(e) => set({ longest_reason: e.target.value })}
        />
      </Field>
    </>
  );
}

/** What is looked for, and what stays meanwhile. */
function FindField({ now, set }: Wished) {
  const mode = now.mode ?? "time";
  return (
    <Field label="Find">
      <Segments
        label="What is found"
        value={mode}
        options={[...MODES]}
        onChange={(value) => set({ mode: value })}
      />
      {mode === "time" ? (
        <>
          at
          <NumberBox
            label="Brightness that stays"
            value={now.brightness}
            width="w-16"
            onChange={(v) => set({ brightness: v === null ? null : Math.round(v) })}
          />
        </>
      ) : (
        <>
          {mode === "both" ? "near" : "at"}
          <NumberBox
            label="Exposure"
            value={now.exposure_s ?? 2}
            width="w-16"
            onChange={(v) => set({ exposure_s: v })}
          />
          s
        </>
      )}
    </Field>
  );
}

/** How many flats, and how many dark flats for them. */
function CountFields({ now, set }: Wished) {
  return (
    <Field label="Flats + dark flats">
      <NumberBox label="Flats" value={now.n_flats} width="w-14" onChange={(v) => set({ n_flats: v })} />
      +
      <NumberBox
        label="Dark flats"
        value={now.n_dark_flats}
        width="w-14"
        onChange={(v) => set({ n_dark_flats: v })}
      />
    </Field>
  );
}

/** The light, and what hangs before it. */
function LightFields({ now, set, sources, diffusers }: Wished & { sources: string[]; diffusers: string[] }) {
  const hang = now.diffusers ?? [];
  return (
    <>
      {sources.length > 1 && (
        <Field label="Light">
          <select
            aria-label="Light"
            className="h-8 rounded-sm border border-rule bg-card px-2"
            value={now.source ?? ""}
            onChange={(e) => set({ source: e.target.value || null })}
          >
            <option value="">the rig’s</option>
            {sources.map((name) => (
              <option key={name}>{name}</option>
            ))}
          </select>
        </Field>
      )}
      {diffusers.length > 0 && (
        <fieldset className="flex flex-col gap-1 text-s text-ink2">
          <legend className="contents">Hangs before it</legend>
          <span className="flex h-8 items-center gap-3 text-m text-ink">
            {diffusers.map((name) => (
              <label key={name} className="flex items-center gap-1.5">
                <input
                  type="checkbox"
                  className="accent-[var(--ink)]"
                  checked={hang.includes(name)}
                  onChange={(e) =>
                    set({ diffusers: e.target.checked ? [...hang, name] : hang.filter((n) => n !== name) })
                  }
                />
                {name}
              </label>
            ))}
          </span>
        </fieldset>
      )}
    </>
  );
}

/** Wishes of one row or of many at once; only what is changed here is changed in them. */
export function Editor({
  rows,
  rig,
  dims,
  diffusers,
  sources,
  onDone,
}: {
  rows: Row[];
  rig: number;
  dims: boolean;
  diffusers: string[];
  sources: string[];
  onDone: (kept: boolean) => void;
}) {
  const first = rows[0];
  const [changes, setChanges] = useState<Wishes>({});
  const keep = useChange((sent: Wishes) =>
    get(
      api.POST("/api/rigs/{rig_id}/flats/rows", {
        params: { path: { rig_id: rig } },
        body: { keys: rows.map((r) => r.key), changes: sent as Schemas["FlatWishesOut"] },
      }),
    ),
  );
  if (!first) return null;
  const now = { ...first.wishes, ...changes };
  const set = (values: Wishes) => setChanges((before) => ({ ...before, ...values }));
  const names = rows.map((r) => r.key.filter_code);
  const send = (sent: Wishes) =>
    keep.mutate(sent, {
      onSuccess: () => {
        setChanges({});
        onDone(true);
      },
    });
  return (
    <form
      className="border border-line bg-card px-4 py-3"
      onSubmit={(event) => {
        event.preventDefault();
        send(changes);
      }}
    >
      <h3 className="pb-2 text-l font-semibold">
        What is wanted of {names.length > 4 ? `${names.length} rows` : names.join(", ")}
        {rows.length > 1 && (
          <span className="pl-3 text-s font-normal text-ink2">
            as {filterName(first.key.filter_code)} has them; only what you change here is changed
          </span>
        )}
      </h3>
      <div className="flex flex-wrap items-end gap-x-5 gap-y-3">
        <LevelFields now={now} set={set} />
        <WindowFields now={now} set={set} />
        {dims && <FindField now={now} set={set} />}
        <CountFields now={now} set={set} />
        <LightFields now={now} set={set} sources={sources} diffusers={diffusers} />
      </div>
      <div className="flex flex-wrap items-center gap-2 pt-3">
        <Button look="ink" type="submit" disabled={keep.isPending || Object.keys(changes).length === 0}>
          Keep for {rows.length === 1 ? first.key.filter_code : `${rows.length} rows`}
        </Button>
        {rows.some((r) => r.own.length > 0) && (
          <Button disabled={keep.isPending} onClick={() => send(NO_WISHES)}>
            Back to what the rig wants
          </Button>
        )}
        <Button look="link" onClick={() => onDone(false)}>
          Close
        </Button>
      </div>
      {keep.error && <Trouble error={keep.error} />}
    </form>
  );
}
