/** Calls when a hand is needed: the page's title, two tones, a phone's buzz, and the browser's own note where it may. */
export interface Call {
  title: (text: string) => void;
  sound: () => void;
  note: (text: string) => void;
}

/** It calls again so often until somebody answered. */
export const AGAIN_MS = 60_000;
const WISH = "call me";
const NAME = "Gray Shelf";

export const isCalledFor = () => localStorage.getItem(WISH) === "on";

let tones: AudioContext | null = null;

/** Two short tones, one above the other: heard in the next room, and no alarm. */
function play() {
  if (!tones) return;
  for (const [at, hertz] of [
    [0, 660],
    [0.22, 880],
  ] as const) {
    const begins = tones.currentTime + at;
    const tone = tones.createOscillator();
    const loudness = tones.createGain();
    tone.frequency.value = hertz;
    loudness.gain.setValueAtTime(0.0001, begins);
    loudness.gain.exponentialRampToValueAtTime(0.3, begins + 0.02);
    loudness.gain.exponentialRampToValueAtTime(0.0001, begins + 0.2);
    tone.connect(loudness).connect(tones.destination);
    tone.start(begins);
    tone.stop(begins + 0.22);
  }
}

/** Be called, or no more. A browser lets a page sound only after it was touched: so it is asked for by a touch. */
export async function askToBeCalled(on: boolean): Promise<string> {
  localStorage.setItem(WISH, on ? "on" : "off");
  if (!on) return "";
  tones ??= new AudioContext();
  await tones.resume();
  play();
  if (!("Notification" in window) || !window.isSecureContext)
    return "This page sounds while it is open. Notes of the browser need the machine itself, or HTTPS.";
  const may = await Notification.requestPermission();
  return may === "granted" ? "" : "The browser shows no notes of this page: it sounds while it is open.";
}

/** The browser that this page is shown in. */
export const thisPage: Call = {
  title: (text) => {
    document.title = text ? `● ${text} – ${NAME}` : NAME;
  },
  sound: () => {
    if (!isCalledFor()) return;
    // After a reload the first touch of anything lets it sound.
    tones ??= new AudioContext();
    void tones.resume().then(play, () => {});
    navigator.vibrate?.([200, 120, 200]);
  },
  note: (text) => {
    if (!isCalledFor() || !("Notification" in window) || Notification.permission !== "granted") return;
    try {
      new Notification(NAME, { body: text, tag: "hand", requireInteraction: true });
    } catch {
      // Phones show notes only of pages that are installed: it sounds all the same.
    }
  },
};

/**
 * Call for what waits, at once and again until it waits no more.
 *
 * @returns ends it
 */
export function callFor(waits: string, call: Call, againMs = AGAIN_MS): () => void {
  call.title(waits);
  if (!waits) return () => {};
  const once = () => {
    call.sound();
    call.note(waits);
  };
  once();
  const again = setInterval(once, againMs);
  return () => {
    clearInterval(again);
    call.title("");
  };
}
