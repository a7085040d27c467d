/**
 * The stream of events, open only while its page is shown: a browser keeps six connections to one address, and pages in
 * the background must not hold them all.
 */

/** The part of an `EventSource` that is used. */
export interface Stream {
  onopen: (() => void) | null;
  onerror: (() => void) | null;
  onmessage: ((message: { data: string }) => void) | null;
  addEventListener: (name: "full", tell: () => void) => void;
  close: () => void;
}

/** The part of a page that is used. */
export interface Page {
  hidden: () => boolean;
  /** Call `tell` whenever the page is shown or hidden; returns how to stop that. */
  whenTurned: (tell: () => void) => () => void;
  open: () => Stream;
}

export interface Listener {
  /** What happened. */
  onEvent: (event: { type: string; id?: number }) => void;
  /** Whether events come; where none do, pages ask on a timer. */
  onListening: (listening: boolean) => void;
  /** The page is shown again: whatever happened meanwhile was not told. */
  onBack: () => void;
}

/** Listen while the page is shown; returns how to end it. */
export function listenWhileShown(page: Page, listener: Listener): () => void {
  let stream: Stream | undefined;
  let wasHidden = false;
  const close = () => {
    stream?.close();
    stream = undefined;
    listener.onListening(false);
  };
  const open = () => {
    stream = page.open();
    stream.onopen = () => listener.onListening(true);
    stream.onerror = () => listener.onListening(false);
    // Too many listen already: this page polls.
    stream.addEventListener("full", close);
    stream.onmessage = (message) =>
      listener.onEvent(JSON.parse(message.data) as { type: string; id?: number });
  };
  const turned = () => {
    if (page.hidden()) {
      wasHidden = true;
      close();
    } else if (wasHidden) {
      wasHidden = false;
      open();
      listener.onBack();
    }
  };
  const stop = page.whenTurned(turned);
  if (page.hidden()) wasHidden = true;
  else open();
  return () => {
    stop();
    close();
  };
}

/** The page in the browser. */
export const thisPage: Page = {
  hidden: () => document.visibilityState === "hidden",
  whenTurned: (tell) => {
    document.addEventListener("visibilitychange", tell);
    return () => document.removeEventListener("visibilitychange", tell);
  },
  open: () => new EventSource("/api/events") as unknown as Stream,
};
