import { useEffect } from "react";

/** The keys [ and ]: one step back, one step on. */
export function useStepKeys(step: (by: 1 | -1) => void) {
  useEffect(() => {
    const press = (event: KeyboardEvent) => {
      if (event.target instanceof HTMLElement && event.target.matches("input, textarea, select")) return;
      if (event.key !== "[" && event.key !== "]") return;
      step(event.key === "]" ? 1 : -1);
      event.preventDefault();
    };
    window.addEventListener("keydown", press);
    return () => window.removeEventListener("keydown", press);
  }, [step]);
}

/** The item so many steps from the one that is chosen, as far as there are any. */
export function stepped<T>(items: T[], at: number, by: number): T | undefined {
  return items[Math.min(Math.max(at + by, 0), items.length - 1)];
}
