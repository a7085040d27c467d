import { describe, expect, it } from "vitest";

import type { SheetWishes } from "../api/hooks";
import { isOnSheet, putOnSheet } from "./context";
import { stepped } from "./useStepKeys";

const none: SheetWishes = { frames: 25, leave_out: [], add: [] };

describe("what is put on tonight's sheet", () => {
  it("is what was ticked last, whatever the server had said before", () => {
    for (const told of [true, false]) {
      const on = putOnSheet(none, "flat R", true);
      expect(isOnSheet(on, "flat R", told)).toBe(true);
      const off = putOnSheet(on, "flat R", false);
      expect(isOnSheet(off, "flat R", told)).toBe(false);
      expect(isOnSheet(putOnSheet(off, "flat R", true), "flat R", told)).toBe(true);
    }
  });

  it("is what the server says where nothing was ticked", () => {
    expect(isOnSheet(none, "dark 300 s", true)).toBe(true);
    expect(isOnSheet(none, "dark 300 s", false)).toBe(false);
  });

  it("holds each thing once and never on both lists", () => {
    let wishes = none;
    for (const [key, on] of [
      ["a", true],
      ["a", true],
      ["b", false],
      ["a", false],
      ["b", true],
      ["b", true],
    ] as const) {
      const before = structuredClone(wishes);
      const after = putOnSheet(wishes, key, on);
      expect(wishes, "what was given is not changed").toEqual(before);
      expect(new Set(after.add).size).toBe(after.add.length);
      expect(new Set(after.leave_out).size).toBe(after.leave_out.length);
      expect(after.add.filter((k) => after.leave_out.includes(k))).toEqual([]);
      expect(after.frames).toBe(25);
      wishes = after;
    }
    expect(wishes).toEqual({ frames: 25, add: ["b"], leave_out: ["a"] });
  });
});

describe("stepping with [ and ]", () => {
  it("stays at the ends, and has nowhere to go in nothing", () => {
    const items = ["L", "R", "G"];
    expect(stepped(items, 0, 1)).toBe("R");
    expect(stepped(items, 2, 1)).toBe("G");
    expect(stepped(items, 0, -1)).toBe("L");
    expect(stepped(items, -1, 1)).toBe("L");
    expect(stepped([], 0, 1)).toBeUndefined();
  });
});
