import type { Schemas } from "../../../api/client";
import { noNumber, numberOf } from "../../../parts/typedNumber";
import { framesMeant, type Meant } from "../meant";

/** What is said, as it is typed: by the names of `SayingIn`, with the pattern, the clock and whether they are kept. */
export type Typed = Record<string, string>;

const NUMBERS = [
  "focal_length_mm",
  "exposure_s",
  "gain",
  "offset",
  "binning",
  "sensor_temp_c",
  "angle_deg",
  "focus",
];
const TEXTS = ["kind", "camera", "telescope", "filter_code", "target", "night"];

/** The fields in which something stands that is no number. */
export const noNumbers = (typed: Typed): string[] =>
  [...NUMBERS, "hours", "minutes"].filter((name) => noNumber(typed[name] ?? ""));

export function asked(meant: Meant, typed: Typed): Schemas["MendIn"] {
  const saying: Record<string, unknown> = {};
  for (const name of NUMBERS)
    if (typed[name]?.trim() && Number.isFinite(numberOf(typed[name]))) saying[name] = numberOf(typed[name]);
  for (const name of TEXTS) if (typed[name]?.trim()) saying[name] = typed[name].trim();
  if (typed.kind && typed.master === "yes") saying.is_master = true;
  const clock = (numberOf(typed.hours ?? "") || 0) * 3600 + (numberOf(typed.minutes ?? "") || 0) * 60;
  if (clock && Number.isFinite(clock)) saying.clock_s = typed.clock === "ahead" ? -clock : clock;
  return {
    choice: framesMeant(meant),
    saying: saying as Schemas["SayingIn"],
    pattern: typed.pattern ?? "",
    kept: typed.kept ? typed.kept === "yes" : null,
  };
}
