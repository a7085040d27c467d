import { renderToStaticMarkup } from "react-dom/server";
import { describe, expect, it } from "vitest";

import type { Schemas } from "../api/client";
import { Ruler } from "./Ruler";

type RulerData = Schemas["RulerOut"];

const base: RulerData = {
  quantity: "temperature",
  kind: "band",
  unit: "°C",
  wanted: -10,
  measured: -10,
  distance: 0,
  tolerance: 1,
  inside: true,
  unknown: false,
  note: "",
  from_name: false,
  by_hand: false,
  text: "0.0 °C",
};
const draw = (changes: Partial<RulerData>) => renderToStaticMarkup(<Ruler ruler={{ ...base, ...changes }} />);
/** Where the tick stands, and its ink. */
const tick = (markup: string) => {
  const found = /<rect x="([\d.-]+)" y="0" width="2.5" height="16" fill="var\(--(\w+)\)"/.exec(markup);
  return found ? { x: Number(found[1]) + 1.25, ink: found[2] } : null;
};

describe("the tolerance ruler", () => {
  it("puts an exact match on the centre line, in ink", () => {
    expect(tick(draw({}))).toEqual({ x: 44, ink: "ink" });
  });
  it("has half its width for two and a half tolerances", () => {
    expect(tick(draw({ distance: 1 }))?.x).toBeCloseTo(44 + 17.6);
    expect(tick(draw({ distance: -2, inside: false }))).toEqual({ x: 44 - 35.2, ink: "accent" });
  });
  it("turns a tick that is beyond its end into an arrowhead, with the distance beside it", () => {
    const markup = draw({ distance: 88.8, inside: false, text: "+88.8°" });
    expect(tick(markup)?.x).toBe(82);
    expect(markup).toContain("+88.8°");
    expect(markup).toContain("text-accent");
    expect(markup).toContain("out of tolerance");
  });
  it("shows what is not known as neither in nor out", () => {
    const markup = draw({ distance: null, measured: null, unknown: true, inside: false, text: "unknown" });
    expect(tick(markup)).toBeNull();
    expect(markup).not.toContain("accent");
  });
  it("draws an exact setting without a band, on the line or off it", () => {
    const same = draw({ kind: "exact", tolerance: null, quantity: "gain" });
    expect(same).not.toContain('height="8"');
    expect(tick(same)?.x).toBe(16);
    expect(tick(draw({ kind: "exact", tolerance: null, inside: false }))).toEqual({ x: 29, ink: "accent" });
  });
  it("counts ages from its left end", () => {
    const fresh = tick(draw({ kind: "age", distance: 0, tolerance: 2 }));
    const old = tick(draw({ kind: "age", distance: 2, tolerance: 2 }));
    expect(fresh?.x).toBe(4);
    expect((old?.x ?? 0) - 4).toBeCloseTo(32);
  });
});
