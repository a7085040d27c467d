import { useCallback, useEffect, useSyncExternalStore } from "react";
import { useLocation, useNavigate } from "react-router";

/** Where it is kept which rig was in hand last, also in other tabs: a new one begins with it. */
const LAST = "rig";
/** Where it is kept for this tab which rig each step of its history showed. */
const STEPS = "rigs";
const MOST_STEPS = 200;

interface Kept {
  last: number;
  steps: Record<string, number>;
}

function read(): Kept {
  try {
    const steps = JSON.parse(sessionStorage.getItem(STEPS) ?? "{}") as Kept["steps"];
    const [how] = performance.getEntriesByType("navigation") as PerformanceNavigationTiming[];
    // Each first page of a tab has this one key: an address that was typed is no return to the one before.
    if (how?.type === "navigate") delete steps.default;
    return { last: Number(localStorage.getItem(LAST) ?? "0"), steps };
  } catch {
    return { last: 0, steps: {} };
  }
}

let kept: Kept | null = null;
const listeners = new Set<() => void>();
const now = (): Kept => (kept ??= read());

function subscribe(listener: () => void) {
  listeners.add(listener);
  return () => listeners.delete(listener);
}

/** Note the rig that was in hand last, and the step of the history that showed it. */
function note(rig: number, step?: string) {
  const { last, steps } = now();
  if (rig === last && (step === undefined || steps[step] === rig)) return;
  const others = Object.entries(steps).filter(([other]) => other !== step);
  const after = step === undefined ? others : [...others, [step, rig]];
  kept = { last: rig, steps: Object.fromEntries(after.slice(-MOST_STEPS)) as Kept["steps"] };
  localStorage.setItem(LAST, String(rig));
  sessionStorage.setItem(STEPS, JSON.stringify(kept.steps));
  for (const listener of listeners) listener();
}

/** An address that names the rig, so that it shows the same wherever it is opened. */
export const atRig = (address: string, rig: number) =>
  `${address}${address.includes("?") ? "&" : "?"}rig=${rig}`;

/**
 * The number of the rig in hand, one of `rigs` or 0 where there is none, and how to take another.
 *
 * Each step of the browser's history has its own, so that back, forward and a reload show what they showed before; an
 * address may name it. Another rig is taken where one is, or, with `to`, at another address.
 */
export function useRigInHand(rigs: number[]): [number, (rig: number, to?: string) => void] {
  const { key, pathname, search } = useLocation();
  const navigate = useNavigate();
  const { last, steps } = useSyncExternalStore(subscribe, now);
  const asked = Number(new URLSearchParams(search).get("rig") ?? "0");
  const wanted = asked || (steps[key] ?? last);
  const rig = rigs.includes(wanted) ? wanted : (rigs[0] ?? 0);
  // A rig that was made a moment ago is not among them yet: it stays wanted.
  const shown = rig > 0 && (wanted === rig || wanted === 0);
  useEffect(() => {
    if (shown) note(rig, key);
  }, [key, rig, shown]);
  const take = useCallback(
    (taken: number, to?: string) => {
      if (to !== undefined) {
        note(taken);
        void navigate(to);
        return;
      }
      note(taken, key);
      const others = new URLSearchParams(search);
      if (!others.has("rig")) return;
      others.delete("rig");
      void navigate({ pathname, search: others.toString() }, { replace: true });
    },
    [key, navigate, pathname, search],
  );
  return [rig, take];
}
