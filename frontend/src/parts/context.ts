import { createContext, useContext } from "react";

import type { Schemas } from "../api/client";
import type { SheetWishes } from "../api/hooks";

export interface Here {
  state: Schemas["StateOut"];
  rig: Schemas["RigBrief"] | null;
  /** Take another rig in hand where one is, or at another address. */
  chooseRig: (id: number, to?: string) => void;
  wishes: SheetWishes;
  setWishes: (change: (wishes: SheetWishes) => SheetWishes) => void;
}

export const HereContext = createContext<Here | null>(null);

/** What every place knows: the state, the rig in hand, and what was put on tonight's sheet. */
export function useHere(): Here {
  const here = useContext(HereContext);
  if (!here) throw new Error("outside of the frame");
  return here;
}

/** Whether something is on the sheet, before the server has said so again. */
export const isOnSheet = (wishes: SheetWishes, key: string, told: boolean): boolean =>
  wishes.add.includes(key) || (told && !wishes.leave_out.includes(key));

/** Put something on tonight's sheet, or take it off. */
export function putOnSheet(wishes: SheetWishes, key: string, on: boolean): SheetWishes {
  return {
    ...wishes,
    add: on ? [...new Set([...wishes.add, key])] : wishes.add.filter((k) => k !== key),
    leave_out: on ? wishes.leave_out.filter((k) => k !== key) : [...new Set([...wishes.leave_out, key])],
  };
}
