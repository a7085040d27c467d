import { describe, expect, it } from "vitest";

import { listenWhileShown, type Stream } from "./events";

function aPage() {
  const said: string[] = [];
  const streams: (Stream & { closed: boolean; full?: () => void })[] = [];
  let hidden = false;
  let turned = () => {};
  const stop = listenWhileShown(
    {
      hidden: () => hidden,
      whenTurned: (tell) => {
        turned = tell;
        return () => (turned = () => {});
      },
      open: () => {
        const stream: Stream & { closed: boolean; full?: () => void } = {
          onopen: null,
          onerror: null,
          onmessage: null,
          closed: false,
          addEventListener: (_name, tell) => (stream.full = tell),
          close: () => (stream.closed = true),
        };
        streams.push(stream);
        return stream;
      },
    },
    {
      onEvent: (event) => said.push(event.type),
      onListening: (listening) => said.push(listening ? "hears" : "deaf"),
      onBack: () => said.push("back"),
    },
  );
  const turn = (now: boolean) => {
    hidden = now;
    turned();
  };
  return { said, streams, turn, stop };
}

describe("the stream of events", () => {
  it("is open while its page is shown, and asks anew once it is shown again", () => {
    const { said, streams, turn, stop } = aPage();
    streams[0]?.onopen?.();
    streams[0]?.onmessage?.({ data: '{"type": "job", "id": 3}' });
    expect(said).toEqual(["hears", "job"]);
    turn(true);
    expect(streams[0]?.closed).toBe(true);
    turn(false);
    expect(streams).toHaveLength(2);
    expect(said.slice(2)).toEqual(["deaf", "back"]);
    stop();
    expect(streams[1]?.closed).toBe(true);
    turn(false);
    expect(streams).toHaveLength(2);
  });

  it("is given up where too many listen, until the page is turned to again", () => {
    const { said, streams, turn } = aPage();
    streams[0]?.full?.();
    expect(streams[0]?.closed).toBe(true);
    expect(said).toEqual(["deaf"]);
    turn(false);
    expect(streams).toHaveLength(1);
    turn(true);
    turn(false);
    expect(streams).toHaveLength(2);
  });
});
