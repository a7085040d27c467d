import { describe, expect, it } from "vitest";

import { signOf } from "./useKeys";

const struck = (key: string, held: string[] = []) => ({
  key,
  altKey: held.includes("Alt"),
  ctrlKey: held.includes("Control"),
  metaKey: held.includes("Meta"),
  getModifierState: (name: string) => held.includes(name),
});

describe("the sign of a key", () => {
  it("counts, however a keyboard reaches it", () => {
    expect(signOf(struck("["))).toBe("[");
    // German on Windows: AltGr and 8, which comes as Ctrl and Alt; on other systems with Alt alone.
    expect(signOf(struck("[", ["Control", "Alt", "AltGraph"]))).toBe("[");
    expect(signOf(struck("[", ["Alt"]))).toBe("[");
    expect(signOf(struck("/", ["Shift"]))).toBe("/");
    expect(signOf(struck("3"))).toBe("3");
  });

  it("is none where the browser is told something", () => {
    for (const held of ["Control", "Meta", "Alt"]) expect(signOf(struck("1", [held]))).toBeNull();
    expect(signOf(struck("[", ["Control"]))).toBeNull();
    expect(signOf(struck("/", ["Meta"]))).toBeNull();
  });
});
