/** Degrees as somebody types them, with a point or a comma; null where no number stands there. */
export function degreesOf(text: string): number | null {
  const plain = text.trim().replace(",", ".").replace("−", "-");
  return plain === "" || Number.isNaN(Number(plain)) ? null : Number(plain);
}

/** A latitude or a longitude, typed. */
export function Degrees({
  id,
  value,
  onChange,
}: {
  id: string;
  value: string;
  onChange: (text: string) => void;
}) {
  return (
    <input
      id={id}
      inputMode="decimal"
      value={value}
      placeholder="degrees"
      onChange={(e) => onChange(e.target.value)}
      className="num h-8 w-24 rounded-sm border border-rule bg-card px-2"
    />
  );
}
