import { createRef } from "react";
import { renderToStaticMarkup } from "react-dom/server";
import { describe, expect, it } from "vitest";

import type { Schemas } from "../../api/client";
import { stepped } from "../../parts/useStepKeys";
import { GainCurves, speaks } from "./GainCurves";
import { furthest, OffsetChart } from "./OffsetChart";
import { TransferChart } from "./TransferChart";

type Offset = Schemas["OffsetGainOut"];
type Channel = Schemas["ChannelOut"];

const rung = (offset: number, zeros: number, lowest: number): Schemas["RungOut"] => ({
  offset,
  n_frames: 3,
  mean: 20 + 16 * offset,
  darkest_percent: Math.max(16 * offset - 10, 0),
  darkest_permyriad: Math.max(16 * offset - 60, 0),
  minima: [lowest, lowest + 9, lowest + 4],
  zeros,
  zeros_text: zeros > 99_999 ? "1.2 M" : String(zeros),
});

const effect = (offset: number): Schemas["EffectOut"] => ({
  offset,
  mean: 20 + 16 * offset,
  floor: 16 * offset - 215,
  clipped: offset < 14 ? 3 : 0,
  cost_percent: 0.4,
  cost_stops: 0.006,
  holds: offset >= 17,
  says: "",
  left_behind: "",
});

const offset: Offset = {
  gain: 200,
  gain_text: "gain 200",
  headline: "Offset 17",
  reason: "",
  cost: "",
  next: "",
  state: "done",
  n_frames: 18,
  n_full_ladder: 328,
  n_pixels: 1_700_000,
  white: 65535,
  rungs: [
    rung(0, 1_200_000, 0),
    rung(13, 8, 0),
    rung(17, 0, 62),
    rung(20, 0, 110),
    rung(40, 0, 420),
    rung(80, 0, 1060),
  ],
  line: { at_zero: 20, slope: 16, floor_at_zero: -215, floor_from: 13.4 },
  depth: -235,
  uncertainty: 5,
  margin: 47,
  answer: effect(17),
  confirmed: true,
  effects: Array.from({ length: 41 }, (_, o) => effect(o)),
  dead: [{ column: 3, row: 4, level: 0, share: 1 }],
  findings: [],
  accepted: null,
};

const draw = (data: Offset, chosen: number | null = null, earlier: Offset | null = null) =>
  renderToStaticMarkup(
    <OffsetChart
      data={data}
      earlier={earlier}
      chosen={chosen}
      onChoose={() => undefined}
      chart={createRef()}
    />,
  );

const measured = (value: number | null, text = value === null ? "–" : String(value)) => ({
  value,
  plus_minus: value === null ? null : 0.01,
  text,
});

const channel = (k: number, name = ""): Channel => ({
  name,
  points: [100, 1000, 10_000, 40_000, 64_000].map((signal, i) => ({
    exposure_s: signal / 4000,
    level: signal + 500,
    signal,
    variance: i === 4 ? 10 : k * signal,
    used: i < 4,
    full: i === 4,
    residual_percent: i < 4 ? 0.1 : null,
    off_line_percent: i === 4 ? -12 : i > 1 ? 0.05 : null,
    source: "panel at 60",
  })),
  pedestal: 500,
  quantisation: 1 / 12,
  dark_variance: 180,
  slope: k,
  saturation_signal: 62_000,
  linear_signal: 63_000,
  straight_within_percent: 1,
  e_per_adu: measured(1 / k),
  e_per_step: measured(1 / k),
  read_noise: measured(3.4),
  usual_read_noise: measured(3.1),
  capacity: measured(62_000 / k),
  full_well: measured(null),
  linear_limit: measured(63_500, "63,500 ± 600"),
  stops: measured(12.1),
  quick: false,
  findings: [],
});

describe("the offset's chart", () => {
  it("is drawn to about twice the answer, and says what lies beyond", () => {
    expect(furthest(offset.rungs, 17)).toBe(40);
    expect(furthest(offset.rungs, null)).toBe(80);
    expect(furthest([], 5)).toBe(1);
    const html = draw(offset);
    expect(html).toContain("also 80 →");
    expect(html).toContain("57 ADU clear");
    expect(html).toContain("47 ADU asked for");
    expect(html).toContain("dead pixel");
  });
  it("shows a dot for each frame and a bar only where pixels are lost", () => {
    const html = draw(offset);
    expect(html.match(/<circle/g)).toHaveLength(5 * 3);
    // The floor's hatching, the answer's frame and number, and two bars of lost pixels.
    expect(html.match(/<rect[^>]*fill="var\(--ink\)"/g)).toHaveLength(2 + 1 + 1);
    expect(html).toContain("1.2 M");
  });
  it("marks another offset that is looked at, and lays an earlier measurement under it", () => {
    expect(draw(offset, 5)).not.toContain("ADU clear");
    const html = draw(offset, null, { ...offset, depth: -260 });
    expect(html).toContain("floor measured earlier");
    expect(draw(offset)).not.toContain("floor measured earlier");
  });
  it("stands with what there is: no line yet, no answer, one rung", () => {
    const bare = {
      ...offset,
      rungs: [rung(80, 0, 900)],
      line: null,
      depth: null,
      answer: null,
      effects: [],
      dead: [],
    };
    const html = draw(bare);
    expect(html).toContain("<svg");
    expect(html).not.toContain("NaN");
  });
});

describe("the gain's charts", () => {
  it("tell used pairs from others, and never draw what is not a number", () => {
    const html = renderToStaticMarkup(
      <TransferChart channel={channel(4)} earlier={channel(3)} title="gain 100" chart={createRef()} />,
    );
    expect(html).not.toContain("NaN");
    expect(html.match(/<circle[^>]*r="4"[^>]*fill="var\(--ink\)"/g)).toHaveLength(4);
    expect(html).toContain("linear to 63,500 ± 600 ADU");
    expect(html).toContain("far below");
    const nothing = {
      ...channel(4),
      slope: null,
      saturation_signal: null,
      linear_signal: null,
      dark_variance: null,
      points: [],
    };
    expect(
      renderToStaticMarkup(<TransferChart channel={nothing} earlier={null} title="" chart={createRef()} />),
    ).not.toContain("NaN");
  });
  it("put the gains side by side, the green channel speaking for a colour sensor", () => {
    const gain = (value: number, channels: Channel[]): Schemas["GainGainOut"] => ({
      gain: value,
      gain_text: `gain ${value}`,
      offset_text: "offset 30",
      state: "done",
      next: "",
      n_frames: 58,
      channels,
      speaks: channels.length === 3 ? "G" : (channels[0]?.name ?? null),
      findings: [],
      accepted: null,
      can_accept: true,
    });
    const colour = gain(0, [channel(1.5, "R"), channel(1.6, "G"), channel(1.4, "B")]);
    expect(speaks(colour)?.name).toBe("G");
    const data: Schemas["GainsOut"] = {
      gains: [colour, gain(100, [channel(4)]), gain(200, [])],
      unity_gain: 20,
      unity_text: "",
      switch: [0, 100],
      switch_text: "",
      suggestions: [],
      step: 1,
    };
    const html = renderToStaticMarkup(
      <GainCurves data={data} chosen={100} onChoose={() => undefined} chart={createRef()} />,
    );
    expect(html).not.toContain("NaN");
    // Two gains in each of four charts; the one without pairs is left out.
    expect(html.match(/r="4"/g)).toHaveLength(8);
    expect(html).toContain("switch");
  });
  it("steps through gains and stops at the ends", () => {
    expect([0, 1, 2].map((at) => stepped(["a", "b", "c"], at, 1))).toEqual(["b", "c", "c"]);
    expect(stepped(["a", "b"], 0, -1)).toBe("a");
    expect(stepped([], -1, 1)).toBeUndefined();
  });
});
