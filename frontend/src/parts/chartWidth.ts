/** Below this a page is a phone's (as `max-md` of the styles). */
const PHONE = "(width < 48rem)";
/** Units that a phone's chart is wide: with those of a desk its words would be 5 pixels high. */
const ON_A_PHONE = 440;

/** How wide a chart is drawn, in its own units, in which words are 12 high. */
export function chartWidth(atADesk: number): number {
  return globalThis.matchMedia?.(PHONE).matches ? ON_A_PHONE : atADesk;
}
