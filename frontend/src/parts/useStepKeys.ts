import { useKeys } from "./useKeys";

/** The keys [ and ]: one step back, one step on. */
export function useStepKeys(step: (by: 1 | -1) => void) {
  useKeys({ "[": () => step(-1), "]": () => step(1) });
}

/** The item so many steps from the one that is chosen, as far as there are any. */
export function stepped<T>(items: T[], at: number, by: number): T | undefined {
  return items[Math.min(Math.max(at + by, 0), items.length - 1)];
}
