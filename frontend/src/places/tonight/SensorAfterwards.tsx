import type { SensorThen } from "./useFill";

const WORDS: Record<SensorThen, string> = {
  "kept cold": "kept cold",
  "warmed after the darks": "warmed after the darks",
  "warmed at the end": "warmed at the end",
};

/** What becomes of a cooled sensor once nothing needs it cold any more. */
export function SensorAfterwards({
  then,
  onChange,
}: {
  then: SensorThen;
  onChange: (then: SensorThen) => void;
}) {
  return (
    <label className="flex items-center gap-2">
      sensor
      <select
        aria-label="The sensor afterwards"
        value={then}
        onChange={(event) => onChange(event.target.value as SensorThen)}
        className="h-8 rounded-sm border border-rule bg-card px-2 font-semibold text-ink max-md:h-11"
      >
        {Object.entries(WORDS).map(([value, label]) => (
          <option key={value} value={value}>
            {label}
          </option>
        ))}
      </select>
    </label>
  );
}
