/**
 * One stream of events for all pages of a browser: it keeps six connections to one address, and a stream for each page
 * would hold them all. One page leads and hears the stream; it passes on what it hears. Where it ends, another leads.
 */

/** The part of an `EventSource` that is used. */
export interface Stream {
  onopen: (() => void) | null;
  onerror: (() => void) | null;
  onmessage: ((message: { data: string }) => void) | null;
  addEventListener: (name: "full", tell: () => void) => void;
  close: () => void;
}

interface ServerEvent {
  type: string;
  id?: number;
}

/** What pages tell one another. */
export type Word = { asks: true } | { listening: boolean } | { event: ServerEvent } | { new_lead: true };

/** The part of a browser that is used. */
export interface Browser {
  open: () => Stream;
  /** Call `lead` once no other page leads, until the page ends; returns how to give that up. */
  whenMine: (lead: () => void) => () => void;
  /** Tell all other pages. */
  tell: (word: Word) => void;
  /** Hear them; returns how to stop that. */
  whenTold: (hear: (word: Word) => void) => () => void;
}

export interface Listener {
  /** What happened. */
  onEvent: (event: ServerEvent) => void;
  /** Whether events come; where none do, pages ask on a timer. */
  onListening: (listening: boolean) => void;
  /** Something may have happened that nobody told. */
  onMissed: () => void;
}

/** Listen with all other pages of this browser; returns how to end it. */
export function listenTogether(browser: Browser, listener: Listener): () => void {
  let stream: Stream | undefined;
  let leads = false;
  let listening = false;
  let followed = false;
  const heard = (now: boolean) => {
    listening = now;
    listener.onListening(now);
    browser.tell({ listening: now });
  };
  const lead = () => {
    leads = true;
    stream = browser.open();
    stream.onopen = () => heard(true);
    stream.onerror = () => heard(false);
    // Too many listen already: these pages poll.
    stream.addEventListener("full", () => {
      stream?.close();
      heard(false);
    });
    stream.onmessage = (message) => {
      const event = JSON.parse(message.data) as ServerEvent;
      listener.onEvent(event);
      browser.tell({ event });
    };
    browser.tell({ new_lead: true });
    // A page that leads from its start has missed nothing.
    if (followed) listener.onMissed();
  };
  const deaf = browser.whenTold((word) => {
    followed ||= !("asks" in word);
    if ("asks" in word) {
      if (leads) browser.tell({ listening });
    } else if ("listening" in word) listener.onListening(word.listening);
    else if ("event" in word) listener.onEvent(word.event);
    else listener.onMissed();
  });
  browser.tell({ asks: true });
  const giveUp = browser.whenMine(lead);
  return () => {
    giveUp();
    deaf();
    stream?.close();
    listener.onListening(false);
  };
}

const NAME = "grayshelf events";

/** The browser that this page is shown in. */
export function thisBrowser(): Browser {
  const channel = new BroadcastChannel(NAME);
  return {
    open: () => new EventSource("/api/events") as unknown as Stream,
    whenMine: (lead) => {
      // Served to a network without encryption, a browser has no locks: each page hears for itself.
      if (!("locks" in navigator)) {
        lead();
        return () => {};
      }
      const ended = new AbortController();
      let release = () => {};
      const held = new Promise<void>((resolve) => {
        release = resolve;
      });
      navigator.locks
        .request(NAME, { signal: ended.signal }, () => {
          lead();
          return held;
        })
        .catch((reason: unknown) => {
          // Given up while another page still led: that is how waiting for a lock ends.
          if (!ended.signal.aborted) throw reason;
        });
      return () => {
        ended.abort();
        release();
      };
    },
    tell: (word) => {
      if ("locks" in navigator) channel.postMessage(word);
    },
    whenTold: (hear) => {
      channel.onmessage = (message: MessageEvent<Word>) => hear(message.data);
      return () => channel.close();
    },
  };
}
