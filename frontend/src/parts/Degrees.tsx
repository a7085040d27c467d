/** A latitude or a longitude, typed as people write it; the server reads it. */
export function Degrees({
  id,
  value,
  onChange,
}: {
  id?: string;
  value: string | number | null | undefined;
  onChange: (text: string) => void;
}) {
  return (
    <input
      id={id}
      value={value ?? ""}
      placeholder="degrees"
      spellCheck={false}
      onChange={(e) => onChange(e.target.value)}
      className="num h-8 w-32 rounded-sm border border-rule bg-card px-2 max-md:h-11"
    />
  );
}
