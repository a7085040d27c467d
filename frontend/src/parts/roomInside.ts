import { useCallback, useState } from "react";

/** How many pixels a box has inside, from left to right: what goes onto the box, and the number. */
export function useRoomInside(): [(box: HTMLElement | null) => (() => void) | undefined, number] {
  const [room, setRoom] = useState(Infinity);
  const box = useCallback((element: HTMLElement | null) => {
    if (!element) return undefined;
    const observer = new ResizeObserver(([entry]) => setRoom(entry?.contentRect.width ?? Infinity));
    observer.observe(element);
    return () => observer.disconnect();
  }, []);
  return [box, room];
}
