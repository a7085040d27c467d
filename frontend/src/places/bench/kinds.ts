/** What the Bench measures, as its head names them. */
export const KINDS = [
  { value: "offset", label: "Offset" },
  { value: "gain", label: "Gain" },
  { value: "flats", label: "Flat exposure" },
] as const satisfies { value: string; label: string }[];

export type BenchPage = (typeof KINDS)[number]["value"];
