import { useState } from "react";

import { Button, ColumnHead } from "../../parts/basics";
import { FilterStamp } from "../../parts/FilterStamp";
import { GO_WORDS } from "../../parts/goes";
import { numberOf } from "../../parts/typedNumber";
import { lightsOf, withFilter, type FilterChoice, type Lights, type PlanIO, type Target } from "./useBefore";

const FIELD = "num h-7 rounded-sm border border-line bg-card px-1.5 text-right max-md:h-11";

/** A number that is sent once it is one. */
function NumberBox({
  label,
  value,
  width,
  onChange,
}: {
  label: string;
  value: number;
  width: string;
  onChange: (value: number) => void;
}) {
  const [text, setText] = useState<string | null>(null);
  return (
    <input
      aria-label={label}
      inputMode="decimal"
      value={text ?? String(value)}
      onChange={(event) => {
        setText(event.target.value);
        const next = numberOf(event.target.value);
        if (Number.isFinite(next)) onChange(next);
      }}
      onBlur={() => setText(null)}
      className={`${FIELD} ${width}`}
    />
  );
}

/** Lights of one filter: how long, how many. */
function LightsLine({
  one,
  nm,
  gainWord,
  onChange,
  onRemove,
}: {
  one: Lights;
  nm: number | null | undefined;
  gainWord: string;
  onChange: (next: Lights) => void;
  onRemove: () => void;
}) {
  const code = one.filter_code;
  return (
    <li className="flex items-center gap-1.5 py-0.5 text-s">
      <FilterStamp code={code} nm={nm} />
      <NumberBox
        label={`Lights in ${code}`}
        value={one.count}
        width="w-12"
        onChange={(count) => onChange({ ...one, count })}
      />
      ×
      <NumberBox
        label={`Exposure in ${code}, seconds`}
        value={one.exposure_s}
        width="w-14"
        onChange={(exposure_s) => onChange({ ...one, exposure_s })}
      />
      s
      {gainWord && (
        <>
          <span className="text-ink2">{gainWord}</span>
          <NumberBox
            label={`${gainWord} in ${code}`}
            value={one.gain}
            width="w-12"
            onChange={(gain) => onChange({ ...one, gain })}
          />
        </>
      )}
      <button
        type="button"
        aria-label={`Without ${code}`}
        className="ml-auto h-7 w-7 text-ink2 hover:text-ink max-md:h-11 max-md:w-11"
        onClick={onRemove}
      >
        ×
      </button>
    </li>
  );
}

/** One target with its lights. */
function TargetBlock({
  target,
  first,
  filters,
  gainWord,
  onChange,
  onRemove,
}: {
  target: Target;
  first: boolean;
  filters: FilterChoice[];
  gainWord: string;
  onChange: (next: Target) => void;
  onRemove: () => void;
}) {
  const bands = new Map(filters.map((f) => [f.filter_code, f.passband_nm]));
  const free = filters.filter((f) => !target.lights.some((one) => one.filter_code === f.filter_code));
  return (
    <li className="border-b border-line py-1.5">
      {!first && (
        <label className="flex items-center gap-2 pb-1 text-s text-ink2">
          <input
            type="checkbox"
            className="h-4 w-4 accent-[var(--ink)]"
            checked={target.turned ?? false}
            onChange={(event) => onChange({ ...target, turned: event.target.checked })}
          />
          the camera is turned before it
        </label>
      )}
      <div className="flex items-center gap-2">
        <input
          aria-label="Target"
          value={target.name}
          placeholder="Target"
          className="h-7 min-w-0 flex-1 rounded-sm border border-line bg-card px-1.5 font-semibold max-md:h-11"
          onChange={(event) => onChange({ ...target, name: event.target.value })}
        />
        {free.length > 0 && (
          <select
            aria-label={`Another filter for ${target.name}`}
            className="h-7 rounded-sm border border-line bg-card px-1 text-s text-ink2 max-md:h-11"
            value=""
            onChange={(event) => {
              const filter = free.find((f) => f.filter_code === event.target.value);
              if (filter) onChange({ ...target, lights: [...target.lights, lightsOf(filter)] });
            }}
          >
            <option value="">+ filter</option>
            {free.map((f) => (
              <option key={f.filter_code}>{f.filter_code}</option>
            ))}
          </select>
        )}
        <Button look="link" onClick={onRemove} aria-label={`Take ${target.name || "this target"} out`}>
          Out
        </Button>
      </div>
      <ul className="pt-1">
        {target.lights.map((one, index) => (
          <LightsLine
            key={`${one.filter_code}:${index}`}
            one={one}
            nm={bands.get(one.filter_code)}
            gainWord={gainWord}
            onChange={(next) =>
              onChange({ ...target, lights: target.lights.map((l, i) => (i === index ? next : l)) })
            }
            onRemove={() => onChange({ ...target, lights: target.lights.filter((_, i) => i !== index) })}
          />
        ))}
        {target.lights.length === 0 && (
          <li className="text-s text-accent">No filter yet: press one in above.</li>
        )}
      </ul>
    </li>
  );
}

interface Parts {
  plan: PlanIO;
  filters: FilterChoice[];
  onChange: (next: PlanIO) => void;
}

/** The filters of the whole night, pressed in or out, and where the flats go. */
export function PlanHead({ plan, filters, onChange }: Parts) {
  const used = (code: string) => plan.targets.some((t) => t.lights.some((one) => one.filter_code === code));
  return (
    <div className="flex flex-wrap items-center gap-x-4 gap-y-1.5 pb-2">
      <div className="flex flex-wrap items-center gap-1" role="group" aria-label="Filters of the whole night">
        {filters.map((filter) => {
          const on = used(filter.filter_code);
          return (
            <button
              key={filter.filter_code}
              type="button"
              aria-pressed={on}
              title={`${filter.filter_code} ${on ? "off" : "on"} every target`}
              className={`flex items-center justify-center rounded-sm border p-0.5 max-md:min-h-11 max-md:min-w-11 ${on ? "border-ink bg-ink" : "border-dashed border-rule"}`}
              onClick={() => onChange(withFilter(plan, filter, !on))}
            >
              <FilterStamp code={filter.filter_code} nm={filter.passband_nm} />
            </button>
          );
        })}
      </div>
      <label className="flex items-center gap-2">
        flats
        <select
          aria-label="Where the flats go"
          className="h-8 rounded-sm border border-rule bg-card px-2 font-semibold max-md:h-11"
          value={plan.go}
          onChange={(event) => onChange({ ...plan, go: event.target.value as NonNullable<PlanIO["go"]> })}
        >
          {GO_WORDS.map(({ value, label }) => (
            <option key={value} value={value}>
              {label}
            </option>
          ))}
        </select>
      </label>
      {plan.go === "once, when the set-up ends" && (
        <label className="flex items-center gap-2">
          of
          <NumberBox
            label="Nights of the set-up"
            value={plan.nights ?? 1}
            width="w-12"
            onChange={(nights) => onChange({ ...plan, nights: Math.round(nights) })}
          />
          nights
        </label>
      )}
    </div>
  );
}

/** The targets with their lights. */
export function PlanTargets({ plan, filters, gainWord, onChange }: Parts & { gainWord: string }) {
  const put = (index: number, next: Target) =>
    onChange({ ...plan, targets: plan.targets.map((t, i) => (i === index ? next : t)) });
  return (
    <section className="pt-4">
      <ColumnHead>The targets, in the order of the night</ColumnHead>
      <ul>
        {plan.targets.map((target, index) => (
          <TargetBlock
            key={index}
            target={target}
            first={index === 0}
            filters={filters}
            gainWord={gainWord}
            onChange={(next) => put(index, next)}
            onRemove={() => onChange({ ...plan, targets: plan.targets.filter((_, i) => i !== index) })}
          />
        ))}
      </ul>
      <Button
        className="mt-2"
        onClick={() =>
          onChange({
            ...plan,
            targets: [
              ...plan.targets,
              { name: "", lights: plan.targets.at(-1)?.lights ?? [], turned: false },
            ],
          })
        }
      >
        Another target
      </Button>
    </section>
  );
}

/** A line of a column of what a plan calls for. */
export function Called({ head, children }: { head: string; children: React.ReactNode }) {
  return (
    <section className="pt-3">
      <ColumnHead>{head}</ColumnHead>
      <ul>{children}</ul>
    </section>
  );
}
