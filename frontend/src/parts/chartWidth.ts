import { useSyncExternalStore } from "react";

const PHONE = globalThis.matchMedia?.("(width < 48rem)");

/** Whether the page is as narrow as a phone's (as `max-md` of the styles). */
export const onAPhone = () => PHONE?.matches ?? false;

/** How wide a chart is drawn, in its own units, in which words are 12 high: as wide as at a desk they would be 5 pixels high
 * on a phone. */
export const chartWidth = (atADesk: number) => (onAPhone() ? 440 : atADesk);

function watch(changed: () => void) {
  PHONE?.addEventListener("change", changed);
  return () => PHONE?.removeEventListener("change", changed);
}

/** Draw a place with charts anew where a phone is turned, or a window is made as narrow as one. */
export const useChartWidth = () => useSyncExternalStore(watch, onAPhone, () => false);
