import { renderToStaticMarkup } from "react-dom/server";
import { describe, expect, it } from "vitest";

import type { Schemas } from "../../api/client";
import { Wall } from "./Wall";

type Spine = Schemas["SpineOut"];
type Gap = Schemas["GapOut"];

const head = (key: string, title = key) => ({ key, title, detail: "" });

const spine = (id: number, more: Partial<Spine> = {}): Spine =>
  ({
    id,
    kind: "dark",
    row: "-10",
    column: "300",
    title: "Dark 300 s",
    gain: 100,
    gain_text: "gain 100",
    foot: "gain 100",
    frames: 50,
    frames_text: "50",
    frames_words: "50 frames",
    date: "12 Sep 26",
    age: "5 weeks",
    age_step: 1,
    care: [],
    is_master: true,
    ...more,
  }) as Spine;

const gap = (key: string, more: Partial<Gap> = {}): Gap =>
  ({
    key,
    kind: "dark",
    row: "-10",
    column: "120",
    title: "Dark 120 s",
    gain: 200,
    gain_text: "gain 200",
    foot: "gain 200",
    frames: 25,
    frames_text: "25",
    frames_words: "25 frames",
    lights: 12,
    ...more,
  }) as Gap;

const draw = (
  spines: Spine[],
  gaps: Gap[] = [],
  only: { gain?: number; pulled?: number; flats?: true } = {},
) =>
  renderToStaticMarkup(
    <Wall
      wall={{
        rows: [head("-10", "−10 °C"), head("0", "0 °C")],
        columns: [head("120"), head("300")],
        spines,
        gaps,
      }}
      kind={only.flats ? "flats" : "darks"}
      gain={only.gain ?? null}
      pulled={only.pulled ?? null}
      onPull={() => undefined}
      onPickGap={() => undefined}
    />,
  );

const names = (html: string) => [...html.matchAll(/<button[^>]*aria-label="([^"]*)"/g)].map((m) => m[1]);
const heights = (html: string) =>
  [...html.matchAll(/data-spine="\d+"[^>]*style="[^"]*height:([\d.]+)px/g)].map((m) => Number(m[1]));

describe("a wall of the shelf", () => {
  it("is a grid of boards and bays with every slab in its place", () => {
    const html = draw([spine(1), spine(2, { row: "0", column: "120" })], [gap("g")]);
    expect(html.match(/role="row"/g)).toHaveLength(2);
    expect(html.match(/role="gridcell"/g)).toHaveLength(4);
    const cells = html.split('role="gridcell"').slice(1);
    expect(cells.map((c) => /data-(spine|gap)="([^"]+)"/.exec(c)?.[2])).toEqual(["g", "1", "2", undefined]);
  });

  it("says of each slab what it is, and of a gap who waits", () => {
    const html = draw([spine(1, { care: ["only 8 frames"], is_master: false })], [gap("g")]);
    expect(names(html)).toEqual([
      "Gap: Dark 120 s, gain 200; 12 lights wait",
      "Dark 300 s, gain 100, 50 frames, 12 Sep 26, not combined yet, use with care: only 8 frames",
    ]);
  });

  it("shows one gain alone, gaps too", () => {
    const html = draw([spine(1), spine(2, { gain: 200 })], [gap("g"), gap("h", { gain: 100 })], {
      gain: 200,
    });
    expect([...html.matchAll(/data-(?:spine|gap)="([^"]+)"/g)].map((m) => m[1])).toEqual(["g", "2"]);
  });

  it("makes a slab as high as its frames are many, by doublings", () => {
    const [few, some, many] = heights(
      draw([spine(1, { frames: 25 }), spine(2, { frames: 50 }), spine(3, { frames: 100 })]),
    ) as [number, number, number];
    expect(some).toBeGreaterThan(few);
    expect(many - some).toBeCloseTo(some - few, 5);
  });

  it("lifts the one that was pulled", () => {
    const html = draw([spine(1), spine(2)], [], { pulled: 2 });
    const lifted = [...html.matchAll(/data-spine="(\d)"[^>]*class="([^"]*)"/g)].filter((m) =>
      m[2]?.split(" ").includes("-translate-y-2"),
    );
    expect(lifted.map((m) => m[1])).toEqual(["2"]);
  });

  it("has room for many in one bay, and stands empty without complaint", () => {
    const many = Array.from({ length: 20 }, (_, i) => spine(i + 1));
    const widths = [...draw(many).matchAll(/data-spine="\d+"[^>]*style="width:([\d.]+)px/g)].map((m) =>
      Number(m[1]),
    );
    expect(widths).toHaveLength(20);
    expect(Math.min(...widths)).toBeGreaterThanOrEqual(22);
    const cells = [...draw(many).matchAll(/role="gridcell"[^>]*style="width:([\d.]+)px/g)].map((m) =>
      Number(m[1]),
    );
    const taken = widths.reduce((sum, w) => sum + w + 6, 0) - 6 + 2 * 12;
    expect(cells[1], "they stay in their bay").toBeGreaterThanOrEqual(taken - 0.01);
    expect(cells[3], "the board below is as wide").toBe(cells[1]);
    expect(cells[0]).toBeLessThan(taken);
    expect(names(draw([]))).toEqual([]);
  });
});
