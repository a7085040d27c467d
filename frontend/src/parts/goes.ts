import type { Schemas } from "../api/client";

export type Go = Schemas["TonightOut"]["go"];

/** Where flats can go, as it is chosen. */
export const GO_WORDS: { value: Go; label: string }[] = [
  { value: "after each target", label: "after each target" },
  { value: "before each turn of the camera", label: "before each turn of the camera" },
  { value: "at the end of the night", label: "at the end of the night" },
  { value: "next day, indoors", label: "next day, indoors" },
  { value: "at the next twilight", label: "at the next twilight" },
  { value: "once, when the set-up ends", label: "once, when the set-up ends" },
];
