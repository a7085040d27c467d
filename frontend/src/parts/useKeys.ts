import { useEffect, useRef } from "react";

/** What a key does; `false` lets the key do what it does elsewhere. */
type Press = (event: KeyboardEvent) => unknown;
type Struck = Pick<KeyboardEvent, "key" | "altKey" | "ctrlKey" | "metaKey" | "getModifierState">;

/** Whether somebody is writing there: then keys are letters. */
const inField = (target: EventTarget | null): boolean =>
  target instanceof HTMLElement &&
  (target.isContentEditable ||
    target.matches("textarea, select, input:not([type=checkbox]):not([type=radio])"));

/**
 * The sign that a key writes, or null where it is struck as a command of the browser's: on other keyboards [ and / are
 * reached with Alt, AltGr or Shift, so the sign counts, and not where the key lies.
 */
export function signOf(event: Struck): string | null {
  const writes = event.getModifierState("AltGraph") || !/^[a-z0-9]$/i.test(event.key);
  const held = event.metaKey || (event.ctrlKey && !event.getModifierState("AltGraph"));
  return held || (event.altKey && !writes) ? null : event.key;
}

/** Keys of a place, by the sign they write. Nothing happens in a field, nor where another part took the key already. */
export function useKeys(keys: Record<string, Press>) {
  const now = useRef(keys);
  useEffect(() => {
    now.current = keys;
  });
  useEffect(() => {
    const press = (event: KeyboardEvent) => {
      const sign = signOf(event);
      if (sign === null || event.defaultPrevented || inField(event.target)) return;
      const does = Object.hasOwn(now.current, sign) ? now.current[sign] : undefined;
      // Escape is never taken from an open list or dialog: it closes those as well.
      if (does && does(event) !== false && sign !== "Escape") event.preventDefault();
    };
    window.addEventListener("keydown", press);
    return () => window.removeEventListener("keydown", press);
  }, []);
}
