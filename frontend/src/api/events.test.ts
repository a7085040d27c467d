import { describe, expect, it } from "vitest";

import { listenTogether, type Stream, type Word } from "./events";

type Opened = Stream & { closed: boolean; full?: () => void };

/** A browser with pages that share one lock and one channel. */
function aBrowser() {
  const streams: Opened[] = [];
  const waiting: (() => void)[] = [];
  const ears = new Map<object, (word: Word) => void>();
  const open = (): Opened => {
    const stream: Opened = {
      onopen: null,
      onerror: null,
      onmessage: null,
      closed: false,
      addEventListener: (_name, tell) => (stream.full = tell),
      close: () => (stream.closed = true),
    };
    streams.push(stream);
    return stream;
  };
  const page = () => {
    const said: string[] = [];
    const me = {};
    const stop = listenTogether(
      {
        open,
        whenMine: (lead) => {
          waiting.push(lead);
          if (waiting.length === 1) lead();
          return () => {
            const first = waiting[0] === lead;
            waiting.splice(waiting.indexOf(lead), 1);
            if (first) waiting[0]?.();
          };
        },
        tell: (word) => ears.forEach((hear, whose) => whose !== me && hear(word)),
        whenTold: (hear) => {
          ears.set(me, hear);
          return () => ears.delete(me);
        },
      },
      {
        onEvent: (event) => said.push(event.type),
        onListening: (listening) => said.push(listening ? "hears" : "deaf"),
        onMissed: () => said.push("missed"),
      },
    );
    return { said, stop };
  };
  return { page, streams };
}

describe("the stream of events", () => {
  it("is one for all pages, and each hears what one hears", () => {
    const { page, streams } = aBrowser();
    const [first, second] = [page(), page()];
    expect(streams).toHaveLength(1);
    streams[0]?.onopen?.();
    const third = page();
    streams[0]?.onmessage?.({ data: '{"type": "job", "id": 3}' });
    expect(first.said).toEqual(["hears", "job"]);
    expect(second.said.slice(-2)).toEqual(["hears", "job"]);
    expect(third.said).toEqual(["hears", "job"]);
  });

  it("goes over to another page where the leading one ends, which asks anew for what was missed", () => {
    const { page, streams } = aBrowser();
    const [first, second, third] = [page(), page(), page()];
    first.stop();
    expect(streams).toHaveLength(2);
    expect(streams[0]?.closed).toBe(true);
    expect(second.said).toContain("missed");
    expect(third.said).toContain("missed");
    streams[1]?.onmessage?.({ data: '{"type": "run"}' });
    expect([second.said.at(-1), third.said.at(-1)]).toEqual(["run", "run"]);
    expect(first.said.at(-1)).toBe("deaf");
  });

  it("is given up for all where too many listen", () => {
    const { page, streams } = aBrowser();
    const [first, second] = [page(), page()];
    streams[0]?.full?.();
    expect(streams[0]?.closed).toBe(true);
    expect([first.said.at(-1), second.said.at(-1)]).toEqual(["deaf", "deaf"]);
  });
});
