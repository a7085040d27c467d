import type { ReactNode } from "react";

import { NumberField } from "../../parts/NumberField";

const box = "num h-8 rounded-sm border border-rule bg-card px-2 text-right max-md:h-11";

/** A line of a sheet: what it is, and where it is typed. */
export function Field({ label, unit, children }: { label: string; unit?: string; children: ReactNode }) {
  return (
    <label className="flex min-h-8 items-center justify-between gap-3">
      <span>{label}</span>
      <span className="flex items-center gap-1.5">
        {children}
        <span className="w-9 text-s text-ink2">{unit}</span>
      </span>
    </label>
  );
}

/** A number that may be unknown: null where nothing stands there. */
export function NumberBox({
  value,
  onChange,
  label,
  width = "w-24",
  placeholder = "",
}: {
  value: number | null | undefined;
  onChange: (value: number | null) => void;
  label?: string;
  width?: string;
  placeholder?: string;
}) {
  return (
    <NumberField
      aria-label={label}
      placeholder={placeholder}
      className={`${box} ${width}`}
      value={value}
      onChange={onChange}
    />
  );
}

export function TextBox({
  value,
  onChange,
  label,
  placeholder,
  width = "w-48",
}: {
  value: string;
  onChange: (value: string) => void;
  label?: string;
  placeholder?: string;
  width?: string;
}) {
  return (
    <input
      aria-label={label}
      placeholder={placeholder}
      className={`h-8 rounded-sm border border-rule bg-card px-2 max-md:h-11 ${width}`}
      value={value}
      onChange={(e) => onChange(e.target.value)}
    />
  );
}

/** A choice of a few words; the empty one is 'not said'. */
export function Choice<T extends string>({
  value,
  onChange,
  options,
  label,
}: {
  value: T;
  onChange: (value: T) => void;
  options: { value: T; label: string }[];
  label?: string;
}) {
  return (
    <select
      aria-label={label}
      className="h-8 w-48 rounded-sm border border-rule bg-card px-2 max-md:h-11"
      value={value}
      onChange={(e) => onChange(e.target.value as T)}
    >
      {options.map((o) => (
        <option key={o.value} value={o.value}>
          {o.label}
        </option>
      ))}
    </select>
  );
}

/** Yes, no, or nobody said. */
export function YesNo({
  value,
  onChange,
  yes,
  no,
}: {
  value: boolean | null | undefined;
  onChange: (value: boolean | null) => void;
  yes: string;
  no: string;
}) {
  return (
    <Choice
      value={value == null ? "" : value ? "yes" : "no"}
      onChange={(v) => onChange(v === "" ? null : v === "yes")}
      options={[
        { value: "", label: "not said" },
        { value: "yes", label: yes },
        { value: "no", label: no },
      ]}
    />
  );
}
