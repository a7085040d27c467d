import type { Schemas } from "../../../api/client";

export type Sheet = Schemas["FlatSheetOut"];
export type Row = Schemas["FlatRowOut"];
export type Key = Schemas["FlatKeyIn"];
/** Some wishes: what is not among them stays as it is. */
export type Wishes = Partial<Schemas["FlatWishesOut"]>;

export const sameKey = (a: Key, b: Key) =>
  a.filter_code === b.filter_code && a.gain === b.gain && a.offset === b.offset && a.binning === b.binning;

/** A key as one word, for the address and for sets. */
export const keyText = (key: Key) => `${key.filter_code}:${key.gain}:${key.offset}:${key.binning}`;

/** Every wish that a row can hold as its own. */
export const OWN = [
  "level_percent",
  "level_adu",
  "level_electrons",
  "tolerance_percent",
  "tolerance_adu",
  "shortest_s",
  "shortest_reason",
  "longest_s",
  "longest_reason",
  "mode",
  "brightness",
  "exposure_s",
  "n_flats",
  "n_dark_flats",
  "source",
  "diffusers",
] as const satisfies readonly (keyof Wishes)[];

/** Letting go of all that rows hold as their own. */
export const NO_WISHES = Object.fromEntries(OWN.map((name) => [name, null])) as Wishes;

/** What gives a row the wishes back that it holds now. */
export const asItIs = (row: Row): Wishes => ({
  ...NO_WISHES,
  ...Object.fromEntries(OWN.filter((name) => row.own.includes(name)).map((name) => [name, row.wishes[name]])),
});

/** Whether another row has the same filter. */
export function twins(row: Row, rows: Row[]): boolean {
  return rows.some((r) => r !== row && r.key.filter_code === row.key.filter_code);
}
