/** A filter in words: a rig without one has rows, too. */
export function filterName(code: string): string {
  return code === "none" ? "no filter" : code;
}
