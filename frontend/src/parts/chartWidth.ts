/** Whether the page is a phone's (as `max-md` of the styles). */
export const ON_A_PHONE = globalThis.matchMedia?.("(width < 48rem)").matches ?? false;

/** How wide a chart is drawn, in its own units, in which words are 12 high: as wide as at a desk they would be 5 pixels high
 * on a phone. */
export const chartWidth = (atADesk: number) => (ON_A_PHONE ? 440 : atADesk);
