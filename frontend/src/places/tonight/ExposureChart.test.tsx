import { renderToStaticMarkup } from "react-dom/server";
import { describe, expect, it } from "vitest";

import type { Schemas } from "../../api/client";
import { ExposureChart } from "./ExposureChart";

const shot = (number: number, exposure_s: number, exposure: string, level: number) =>
  ({ number, exposure_s, exposure, level, probe: false, ruler: { inside: true } }) as Schemas["TestShotOut"];

const search = (more: Partial<Schemas["SearchOut"]>) =>
  ({
    filter_code: "L",
    target: 30_500,
    tolerance: 2_000,
    white: 65_535,
    pedestal: 500,
    rate: 1_800_000,
    shortest: 0.001,
    longest: 10,
    shots: [shot(1, 1 / 60, "1/60 s", 30_500)],
    found: "1/60 s",
    found_s: 1 / 60,
    ...more,
  }) as Schemas["SearchOut"];

describe("the chart of a search", () => {
  it("puts the answer where its seconds are, however they are written", () => {
    const html = renderToStaticMarkup(<ExposureChart search={search({})} />);
    const circle = /<circle cx="([\d.]+)"/.exec(html);
    const answer = /<text x="([\d.]+)"[^>]*>1\/60 s</.exec(html);
    expect(answer).not.toBeNull();
    expect(Number(answer?.[1])).toBeCloseTo(Number(circle?.[1]), 6);
  });
  it("lets a first shot that was far too long stand at the edge with its time", () => {
    const shots = [shot(1, 8, "8 s", 65_535), shot(2, 1 / 60, "1/60 s", 30_500)];
    const html = renderToStaticMarkup(<ExposureChart search={search({ shots })} />);
    expect(html).toContain("8 s →");
    const xs = [...html.matchAll(/<circle cx="([\d.]+)"/g)].map((m) => Number(m[1]));
    expect(Math.max(...xs)).toBeLessThan(480);
    expect(xs[1]).toBeLessThan(400);
  });
  it("draws no answer and no line before there is a fit", () => {
    const html = renderToStaticMarkup(
      <ExposureChart search={search({ rate: null, found: null, found_s: null })} />,
    );
    expect(html).not.toContain('stroke-width="2"');
    expect(html).toContain("permitted 0.001 to 10 s");
  });
});
