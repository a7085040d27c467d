import { describe, expect, it } from "vitest";

import { isOnSheet, putOnSheet } from "./context";
import { scaleOf, spineHeight } from "./Spine";

describe("a spine's height", () => {
  it("grows with the log of its frames, and stays on the shelf", () => {
    expect([10, 20, 50, 100, 200].map((n) => spineHeight(n))).toEqual([66, 91, 124, 149, 174]);
    expect(spineHeight(1)).toBe(54);
    expect(spineHeight(100_000)).toBe(180);
  });

  it("holds its number and its foot in a bay of any height, and stays below the board above", () => {
    for (const bay of [60, 102, 140, 184, 300]) {
      expect(spineHeight(4, scaleOf(bay))).toBe(54);
      expect(spineHeight(100_000, scaleOf(bay))).toBeLessThanOrEqual(bay);
    }
    expect(spineHeight(100, 0.5)).toBe(102);
  });
});

describe("tonight's sheet", () => {
  const empty = { frames: 25, leave_out: [], add: [] };
  it("takes a row on and off, and never both", () => {
    const on = putOnSheet({ ...empty, leave_out: ["flat:L"] }, "flat:L", true);
    expect(on).toEqual({ frames: 25, leave_out: [], add: ["flat:L"] });
    const off = putOnSheet(on, "flat:L", false);
    expect(isOnSheet(on, "flat:L", false)).toBe(true);
    expect(isOnSheet(off, "flat:L", true)).toBe(false);
    expect(off).toEqual({ frames: 25, leave_out: ["flat:L"], add: [] });
  });
});
