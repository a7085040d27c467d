import { createRef } from "react";
import { renderToStaticMarkup } from "react-dom/server";
import { describe, expect, it } from "vitest";

import type { Schemas } from "../../../api/client";
import { keyText, sameKey } from "./keys";
import { LightChart } from "./LightChart";

const ruler = { quantity: "level", kind: "band", unit: "ADU" } as Schemas["RulerOut"];
const shot = (number: number, x: number, y: number, more = {}): Schemas["ChartShot"] => ({
  number,
  x,
  y,
  text: `${x} s, ${y} ADU`,
  probe: false,
  full: false,
  other: false,
  why: "",
  ruler,
  ...more,
});

const data: Schemas["FlatChartOut"] = {
  key: { filter_code: "Ha", gain: 200, offset: 30, binning: 1 },
  title: "6.1 s at 140",
  under: "",
  axis: "exposure",
  fixed: "at brightness 140",
  target: 32_800,
  tolerance: 2_000,
  white: 65_535,
  low: 0.5,
  high: 10,
  low_reason: "the panel flickers below it",
  high_reason: "your limit",
  permitted: "permitted, 0.5 to 10 s",
  shots: [shot(1, 0.2, 1546, { probe: true }), shot(2, 6.1, 32_830), shot(3, 300, 65_535, { full: true })],
  line: [
    [0, 486],
    [12.27, 65_535],
  ],
  line_text: "486 ADU + 5,302 ADU each second",
  answer_x: 6.1,
  answer_y: 32_830,
  answer_text: "6.1 s",
  kept: "+30 ADU",
  next: "",
};

const draw = (more = {}) =>
  renderToStaticMarkup(
    <LightChart data={{ ...data, ...more }} chosen={null} onChoose={() => undefined} chart={createRef()} />,
  );

describe("the chart of a search", () => {
  it("shows every shot, the line's words, the answer and what is not permitted", () => {
    const html = draw();
    for (const words of [
      "6.1 s",
      "kept, +30 ADU",
      "486 ADU + 5,302 ADU each second",
      "32,830",
      "shorter: the panel",
    ])
      expect(html).toContain(words);
    expect(html).toContain("0.2 s, 1546 ADU, to measure only");
    expect(html).toContain("300 s, 65535 ADU →");
    expect(html.match(/<circle/g)).toHaveLength(3);
    expect(html).toContain("aria-label");
  });

  it("stays whole without a line or an answer, and against brightness", () => {
    expect(draw({ line: [], answer_x: null, answer_y: null, shots: [] })).not.toContain("NaN");
    const html = draw({ axis: "brightness", low: 18, high: 255, fixed: "levels at 2 s", answer_x: 101 });
    expect(html).toContain("brightness, levels at 2 s");
    expect(html).not.toContain("NaN");
  });
});

describe("keys of rows", () => {
  it("tell rows of other settings apart", () => {
    const key = data.key;
    expect(sameKey(key, { ...key })).toBe(true);
    for (const other of [{ gain: 100 }, { offset: 20 }, { binning: 2 }, { filter_code: "L" }])
      expect(sameKey(key, { ...key, ...other })).toBe(false);
    expect(keyText(key)).toBe("Ha:200:30:1");
  });
});
