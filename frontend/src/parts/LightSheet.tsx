import { useState } from "react";

import { api, get, type Schemas } from "../api/client";
import { useChange } from "../api/hooks";
import { Button, ColumnHead, Trouble } from "./basics";
import { NumberField } from "./NumberField";

type Source = Schemas["SourceOut"];

interface Described {
  source: Source;
  set: (values: Partial<Source>) => void;
}

const box = "num h-8 rounded-sm border border-rule bg-card px-2 text-right";

/** A number of the light that may be unknown. */
function SourceNumber({
  source,
  set,
  name,
  label,
  width = "w-20",
}: Described & {
  name: "lowest" | "highest" | "pulse_hz" | "duty" | "before_s" | "after_s" | "shortest_lit_s";
  label: string;
  width?: string;
}) {
  return (
    <NumberField
      aria-label={label}
      className={`${box} ${width}`}
      value={source[name]}
      onChange={(value) => set({ [name]: value })}
    />
  );
}

/** How bright it can be set, and its pulses. */
function Shining({ source, set, bands }: Described & { bands: string | undefined }) {
  const number = { source, set };
  return (
    <>
      <label className="flex items-center justify-between gap-3">
        Its brightness can be set
        <input
          type="checkbox"
          className="accent-[var(--ink)]"
          checked={source.dimmable}
          onChange={(e) => set({ dimmable: e.target.checked })}
        />
      </label>
      {source.dimmable && (
        <span className="flex items-center justify-between gap-3">
          Brightness, from the lowest that is steady
          <span className="flex items-center gap-1.5">
            <SourceNumber {...number} name="lowest" label="Lowest brightness" width="w-16" /> to{" "}
            <SourceNumber {...number} name="highest" label="Highest brightness" />
          </span>
        </span>
      )}
      <span className="flex items-center justify-between gap-3">
        Pulses, where it is switched on and off
        <span className="flex items-center gap-1.5">
          <SourceNumber {...number} name="pulse_hz" label="Pulses a second" /> Hz, lit
          <SourceNumber {...number} name="duty" label="Share of the time that it is lit" width="w-16" />
        </span>
      </span>
      <p className="pt-1 text-s text-ink2">Lit is the share of the time, 0.4 for 40 %. {bands}</p>
    </>
  );
}

/** What it is, and whether it stays on or is lit within each exposure. */
function Burning({ source, set }: Described) {
  const number = { source, set };
  const within = source.before_s !== null || source.after_s !== null;
  const choice = "h-8 w-48 rounded-sm border border-rule bg-card px-2";
  return (
    <>
      <label className="flex items-center justify-between gap-3">
        It is
        <select
          className={choice}
          value={source.kind}
          onChange={(e) => set({ kind: e.target.value as Source["kind"] })}
        >
          <option value="panel">a panel</option>
          <option value="tablet">a tablet</option>
          <option value="wall">a lit wall</option>
        </select>
      </label>
      <label className="flex items-center justify-between gap-3">
        It is lit
        <select
          className={choice}
          value={within ? "within" : "steady"}
          onChange={(e) =>
            set(
              e.target.value === "within"
                ? { before_s: 0.5, after_s: 0.5, shortest_lit_s: 0.01 }
                : { before_s: null, after_s: null, shortest_lit_s: null },
            )
          }
        >
          <option value="steady">all the time</option>
          <option value="within">within the exposure</option>
        </select>
      </label>
      {within && (
        <>
          <span className="flex items-center justify-between gap-3">
            Dark before it is lit, and after
            <span className="flex items-center gap-1.5">
              <SourceNumber
                {...number}
                name="before_s"
                label="Dark before it is lit, in seconds"
                width="w-16"
              />
              <SourceNumber
                {...number}
                name="after_s"
                label="Dark after it was lit, in seconds"
                width="w-16"
              />{" "}
              s
            </span>
          </span>
          <span className="flex items-center justify-between gap-3">
            Lit for at least
            <span className="flex items-center gap-1.5">
              <SourceNumber
                {...number}
                name="shortest_lit_s"
                label="Lit for at least, in seconds"
                width="w-16"
              />{" "}
              s
            </span>
          </span>
          <p className="text-s text-ink2">
            The shutter opens and closes in the dark. What is looked for is then the time of light; dark flats
            have the whole exposure.
          </p>
        </>
      )}
    </>
  );
}

/** What can hang before it, each with its stops. */
function Diffusers({ source, set }: Described) {
  const diffusers = source.diffusers ?? [];
  const change = (i: number, values: Partial<(typeof diffusers)[number]>) =>
    set({ diffusers: diffusers.map((x, j) => (j === i ? { ...x, ...values } : x)) });
  return (
    <>
      <h3 className="pt-1 font-semibold">Can hang before it</h3>
      {diffusers.map((d, i) => (
        <span key={i} className="flex items-center gap-2">
          <input
            aria-label={`Name of diffuser ${i + 1}`}
            className="h-8 min-w-0 flex-1 rounded-sm border border-rule bg-card px-2"
            value={d.name}
            onChange={(e) => change(i, { name: e.target.value })}
          />
          <NumberField
            aria-label={`Stops of diffuser ${i + 1}`}
            className={`${box} w-16`}
            value={d.stops}
            onChange={(stops) => change(i, { stops: stops ?? 0 })}
          />
          stops
          <button
            type="button"
            aria-label={`Take ${d.name || "it"} off the list`}
            className="h-8 w-8"
            onClick={() => set({ diffusers: diffusers.filter((_, j) => j !== i) })}
          >
            ×
          </button>
        </span>
      ))}
    </>
  );
}

const NEW_LIGHT: Source = {
  name: "",
  kind: "panel",
  dimmable: true,
  lowest: 1,
  highest: 100,
  pulse_hz: null,
  duty: null,
  before_s: null,
  after_s: null,
  shortest_lit_s: null,
  diffusers: [],
};

/** What the light is: its range, its pulses, what can hang before it. */
export function LightSheet({
  lights,
  current,
  bands,
  rig,
}: {
  lights: Source[];
  /** Name of the one that is the rig's. */
  current: string;
  bands?: string;
  rig: number;
}) {
  const known = lights.find((s) => s.name === current);
  // Until something is typed it is the light that is kept; and again, once what was typed is.
  const [typed, setTyped] = useState<Source | null>(null);
  const source = typed ?? known ?? NEW_LIGHT;
  const keep = useChange((sent: Source) =>
    get(api.PUT("/api/rigs/{rig_id}/sheets/light", { params: { path: { rig_id: rig } }, body: sent })),
  );
  const set = (values: Partial<Source>) => setTyped((s) => ({ ...(s ?? source), ...values }));
  const diffusers = source.diffusers ?? [];
  return (
    <form
      onSubmit={(event) => {
        event.preventDefault();
        keep.mutate(source, { onSuccess: () => setTyped(null) });
      }}
    >
      <ColumnHead>The light</ColumnHead>
      <div className="flex flex-col gap-2 pt-3">
        {lights.length > 1 && (
          <label className="flex items-center justify-between gap-3">
            One that is known
            <select
              className="h-8 w-48 rounded-sm border border-rule bg-card px-2"
              value={lights.some((s) => s.name === source.name) ? source.name : ""}
              onChange={(e) => {
                const other = lights.find((s) => s.name === e.target.value);
                if (other) setTyped(other);
              }}
            >
              <option value="">a new one</option>
              {lights.map((s) => (
                <option key={s.name}>{s.name}</option>
              ))}
            </select>
          </label>
        )}
        <label className="flex items-center justify-between gap-3">
          Name
          <input
            className="h-8 w-48 rounded-sm border border-rule bg-card px-2"
            value={source.name}
            onChange={(e) => set({ name: e.target.value })}
          />
        </label>
        <Burning source={source} set={set} />
        <Shining source={source} set={set} bands={bands} />
        <Diffusers source={source} set={set} />
        <span className="flex gap-2 pt-1">
          <Button look="ink" type="submit" disabled={keep.isPending}>
            Keep this light
          </Button>
          <Button onClick={() => set({ diffusers: [...diffusers, { name: "", stops: 1 }] })}>
            Add a diffuser
          </Button>
        </span>
        {keep.data && !keep.error && <p role="status">{keep.data.message}</p>}
        {keep.error && <Trouble error={keep.error} />}
      </div>
    </form>
  );
}
