import { useCallback, useState } from "react";

import type { SheetWishes } from "../api/hooks";

const PLACE = "sheet";
/** As many frames as the house rules say, and all that lights wait for. */
const NOTHING: SheetWishes = { frames: null, leave_out: [], add: [] };

type Kept = Record<string, SheetWishes>;

function read(): Kept {
  try {
    return JSON.parse(localStorage.getItem(PLACE) ?? "{}") as Kept;
  } catch {
    return {};
  }
}

/** What was chosen for a rig's sheet of one night; it outlives a reload, and not the night. */
export function useSheetWishes(
  rig: number,
  night: string,
): [SheetWishes, (change: (wishes: SheetWishes) => SheetWishes) => void] {
  const [kept, setKept] = useState<Kept>(read);
  const key = `${night}:${rig}`;
  const change = useCallback(
    (next: (wishes: SheetWishes) => SheetWishes) =>
      setKept((before) => {
        const tonight = Object.entries(before).filter(([k]) => k.startsWith(`${night}:`));
        const after = { ...Object.fromEntries(tonight), [key]: next(before[key] ?? NOTHING) };
        localStorage.setItem(PLACE, JSON.stringify(after));
        return after;
      }),
    [key, night],
  );
  return [kept[key] ?? NOTHING, change];
}
