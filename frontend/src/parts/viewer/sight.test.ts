import { describe, expect, it } from "vitest";

import { fitted, kept, levelFor, pixelAt, placeOf, tilesSeen, zoomed } from "./sight";
import { grays } from "./tiles";

const picture = { width: 6000, height: 4000 };
const pane = { width: 900, height: 700 };

describe("how a picture is looked at", () => {
  it("is seen whole at first, and no further out", () => {
    const whole = fitted(picture, pane);
    expect(whole).toEqual({ x: 3000, y: 2000, scale: 0.15 });
    expect(kept({ ...whole, scale: 0.01 }, picture, pane)).toEqual(whole);
    expect(kept({ x: -500, y: 9e4, scale: 1 }, picture, pane)).toEqual({ x: 450, y: 3650, scale: 1 });
  });

  it("keeps what is under the pointer there while it comes nearer", () => {
    const before = { x: 2500, y: 1800, scale: 0.4 };
    const at = { x: 120, y: 640 };
    const under = pixelAt(before, pane, at);
    const after = zoomed(before, pane, at, 3);
    expect(placeOf(after, pane, under).x).toBeCloseTo(at.x);
    expect(placeOf(after, pane, under).y).toBeCloseTo(at.y);
  });

  it("fetches no finer than the screen shows, and only tiles that are seen", () => {
    expect([2, 1, 0.6, 0.5, 0.15, 0.01].map(levelFor)).toEqual([1, 1, 1, 2, 4, 64]);
    expect(tilesSeen({ x: 3000, y: 2000, scale: 1 }, pane, picture, 256)).toHaveLength(5 * 4);
    const corner = kept({ x: 6000, y: 4000, scale: 1 }, picture, pane);
    const seen = tilesSeen(corner, pane, picture, 256);
    expect(Math.max(...seen.map((t) => t.column))).toBe(Math.ceil(6000 / 256) - 1);
    expect(Math.max(...seen.map((t) => t.row))).toBe(Math.ceil(4000 / 256) - 1);
  });
});

describe("the stretch", () => {
  it("runs straight from black to white, and leaves open what holds no number", () => {
    const into = new Uint32Array(5);
    grays(new Float32Array([0, 100, 150, 900, NaN]), 100, 200, into);
    expect([...into].map((v) => v & 0xff)).toEqual([0, 0, 127, 255, 0]);
    expect([...into].map((v) => v >>> 24)).toEqual([255, 255, 255, 255, 0]);
  });
});
