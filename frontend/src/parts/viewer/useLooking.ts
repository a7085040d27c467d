import { useEffect, useState } from "react";

import { useKeys } from "../useKeys";
import { useStepKeys } from "../useStepKeys";
import type { Drawn } from "./Aside";
import type { Against } from "./Held";
import type { Ends } from "./Pane";
import type { Sight } from "./sight";
import { useView, type Looked, type View } from "./views";

export interface Named {
  frame_id: number;
  name: string;
}

/** A picture beside the first from the start, such as what came of it. */
export interface Second {
  looked: Looked;
  name: string;
}

interface HeldAgainst {
  other: number | null;
  against: Against;
}

const PERIOD_MS = 900;

/** One picture after the other: by the clock, or by hand alone where somebody wants nothing to move; `x` turns them. */
function useInTurn(on: boolean): [boolean, () => void] {
  const [second, setSecond] = useState(false);
  useEffect(() => {
    if (!on || window.matchMedia("(prefers-reduced-motion: reduce)").matches) return;
    const every = setInterval(() => setSecond((now) => !now), PERIOD_MS);
    return () => clearInterval(every);
  }, [on, second]);
  return [on && second, () => setSecond((now) => !now)];
}

/** What is looked at, and what beside it or in turn with it. */
function picturesOf(start: Looked, frame: number, held: HeldAgainst, colour: Looked["colour"]) {
  const how = start.how === "calibrated" ? "calibrated" : "alone";
  const alone: Looked = { ...start, how, frame, other: undefined, colour };
  if (held.other === null) return { main: alone, second: null };
  if (held.against === "minus" || held.against === "over")
    return { main: { ...alone, how: held.against, other: held.other }, second: null };
  return { main: alone, second: { ...alone, frame: held.other } };
}

/** The stretch of each kind of picture, as it was chosen; a second one of the same unit has that of the first. */
function useEnds(view: View | undefined) {
  const [chosen, setChosen] = useState<Record<string, Ends>>({});
  const keyOf = (v: View, how: string) => `${how} ${v.unit}`;
  return {
    of: (v: View, how: string): Ends => {
      const same = how === "alone" && view && v.unit === view.unit ? view : v;
      return chosen[keyOf(v, how)] ?? { black: same.black, white: same.white };
    },
    set: (v: View, how: string, ends: Ends | null) =>
      setChosen((old) => {
        const others = Object.entries(old).filter(([key]) => key !== keyOf(v, how));
        return Object.fromEntries(ends ? [...others, [keyOf(v, how), ends]] : others);
      }),
  };
}

/** All that is chosen in a viewer while it is open. */
export function useLooking(start: Looked, frames: Named[], beside: Second | null) {
  const [frame, setFrame] = useState(start.frame);
  const [held, setHeld] = useState<HeldAgainst>({
    other: start.other ?? null,
    against: start.how === "minus" || start.how === "over" ? start.how : "beside",
  });
  const [colour, setColour] = useState(start.colour);
  const [sight, setSight] = useState<Sight | null>(null);
  const [line, setLine] = useState<Drawn | null>(null);
  const { main, second } = picturesOf(start, frame, held, colour);
  const other = beside?.looked ?? second;
  const view = useView(main);
  const otherView = useView(other);
  const inTurn = other !== null && beside === null && held.against === "blink";
  const [turned, turn] = useInTurn(inTurn);
  const at = frames.findIndex((f) => f.frame_id === frame);
  useStepKeys((by) => {
    const next = frames[Math.min(Math.max(at + by, 0), frames.length - 1)];
    if (next) setFrame(next.frame_id);
  });
  useKeys({ x: turn, "0": () => setSight(null) });
  return {
    main,
    view,
    other,
    otherView,
    inTurn,
    turn,
    turned: turned && otherView.data !== undefined,
    name: (beside === null && frames[at]?.name) || view.data?.name || "",
    held: beside
      ? null
      : { ...held, set: (o: number | null, against: Against) => setHeld({ other: o, against }) },
    chooseColour: (next: Looked["colour"]) => {
      setColour(next);
      // Of one colour there are half as many rows and columns.
      setSight(null);
      setLine(null);
    },
    sight,
    setSight,
    line,
    setLine,
    ends: useEnds(view.data),
  };
}

export type Looking = ReturnType<typeof useLooking>;
