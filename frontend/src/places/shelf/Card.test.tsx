import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { renderToStaticMarkup } from "react-dom/server";
import { MemoryRouter } from "react-router";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";

import { asked, type Schemas } from "../../api/client";
import { Card } from "./Card";

type CardOut = Schemas["CardOut"];
type Input = Schemas["InputOut"];

const input = (number: number, more: Partial<Input> = {}): Input => ({
  frame_id: number,
  name: `dark_${number}.fits`,
  mean: null,
  noise: null,
  temp: null,
  by_hand: "",
  level: 500 + number,
  used: true,
  reason: "",
  clipped_percent: 0.1,
  sha256: "0".repeat(64),
  ...more,
});

const card = (more: Partial<CardOut> = {}): CardOut =>
  ({
    title: "Dark 300 s",
    subtitle: "gain 200, 50 frames of 12 Sep 26",
    file: "/library/masters/dark.fits",
    made: "Mean, clipped at 3 sigma about the median, 3 rounds",
    can_build: false,
    taken_off: false,
    figures: [{ name: "Median", value: 502, text: "502", unit: "ADU" }],
    noise: [{ name: "Left in a pixel", value: 0.4, text: "0.40", unit: "e⁻" }],
    settings: [{ name: "Sensor", value: -10, text: "−10.0", unit: "°C" }],
    frames: [],
    picture: null,
    picture_trouble: "",
    findings: [],
    enough: null,
    checked: true,
    can_remake: true,
    few_frames: false,
    pending: 0,
    inputs: [],
    inputs_note: "50 of 50 used",
    level_unit: "ADU",
    n_lights: 0,
    serves: [],
    spine: {
      id: 4,
      title: "Dark 300 s",
      gain_text: "gain 200",
      date: "12 Sep 26",
      frames: 50,
      frames_text: "50",
      frames_words: "50 frames",
      age_step: 2,
      care: [],
      is_master: true,
    },
    ...more,
  }) as unknown as CardOut;

const served = (set: number, night: string): Schemas["ServedOut"] => ({
  set_id: set,
  rig_id: 1,
  night,
  night_title: night,
  target: "NGC 6888",
  filter_code: "SII",
  passband_nm: 672,
  text: "8 × 300 s",
  verdict: "fits",
  ruler: null,
});

function draw(more: Partial<CardOut> = {}, near = 200): string {
  const client = new QueryClient();
  client.setQueryData(
    asked.queryOptions("get", "/api/holdings/{set_id}", { params: { path: { set_id: 4 } } }).queryKey,
    card(more),
  );
  return renderToStaticMarkup(
    <QueryClientProvider client={client}>
      <MemoryRouter>
        <Card id={4} near={near} onClose={() => undefined} />
      </MemoryRouter>
    </QueryClientProvider>,
  );
}

beforeEach(() => vi.stubGlobal("window", { innerWidth: 1280 }));
afterEach(() => vi.unstubAllGlobals());

describe("the card of a holding", () => {
  it("is called by its name and says what was measured with its unit", () => {
    const html = draw();
    expect(html).toContain('role="dialog" aria-label="Dark 300 s"');
    for (const words of ["502", "ADU", "0.40", "e⁻", "−10.0", "Mean, clipped at 3 sigma", "No lights use it"])
      expect(html).toContain(words);
  });

  it("stays on the page wherever the spine stood", () => {
    const left = (near: number) => Number(/left:(-?\d+)px/.exec(draw({}, near))?.[1]);
    expect(left(-500)).toBe(24);
    expect(left(300)).toBe(300);
    expect(left(5000)).toBe(1280 - 632 - 24);
  });

  it("draws the level of every frame, and names those left out with the reason", () => {
    const html = draw({
      inputs: [input(1), input(2), input(3, { used: false, level: 900, reason: "its level lies apart" })],
    });
    expect(html.match(/<circle/g)).toHaveLength(3);
    expect(html).toContain("Level of 3 frames");
    expect(html).toContain("dark_3.fits: its level lies apart");
    // What was left out does not stretch the scale: it stands at its edge.
    const heights = [...html.matchAll(/<circle[^>]*cy="([\d.]+)"/g)].map((m) => Number(m[1]));
    expect(Math.min(...heights)).toBeGreaterThanOrEqual(6);
    expect(Math.max(...heights)).toBeLessThanOrEqual(46);
    expect(draw({ inputs: [input(1)] })).not.toContain("<circle");
  });

  it("tells what was found by name and size, and that nothing was", () => {
    expect(draw()).toContain("Looked at: nothing is wrong");
    expect(draw({ checked: false })).not.toContain("Looked at");
    const html = draw({
      findings: [
        {
          fault: "light leak",
          size_text: "3.1 ADU",
          message: "It rises by 3.1 ADU across the frame, towards the right.",
          advice: "Cap on.",
          left_out: false,
          place: { left: 0.5, top: 0, width: 0.5, height: 1 },
        },
      ],
    });
    expect(html).toContain("Light leak");
    expect(html).toContain("3.1 ADU");
    expect(html).toContain("Show where");
  });

  it("says what its own number of frames costs the lights that use it", () => {
    const percent = Array.from({ length: 98 }, (_, i) => 60 / (i + 3));
    const html = draw({
      enough: {
        lights: "12 lights of IC 5146, 300 s each",
        fewest: 3,
        percent,
        ruled: "Its read-out rules it.",
      },
    });
    expect(html).toContain("Enough?");
    expect(html).toContain("50 frames add 1.2 %");
    expect(html).toContain("12 lights of IC 5146");
    expect(draw()).not.toContain("Enough?");
  });

  it("says how many frames are to be used otherwise", () => {
    const html = draw({ pending: 2 });
    expect(html).toContain("with 2 frames changed");
    expect(draw({ can_remake: false })).not.toContain("Combine anew");
  });

  it("counts the nights that it serves, not the sets", () => {
    const html = draw({
      n_lights: 30,
      serves: [served(1, "2026-10-17"), served(2, "2026-10-18"), served(3, "2026-10-18")],
    });
    expect(html).toContain("Lights that use it: 30 of 2 nights");
    expect(html).toContain('href="/nights/2026-10-18?set=3&amp;rig=1"');
    expect(draw({ n_lights: 8, serves: [served(1, "2026-10-18")] })).toContain("8 of 1 night<");
  });

  it("offers what can be done with it, and the way back of what was done", () => {
    expect(draw()).not.toContain("into a master");
    expect(draw({ can_build: true })).toContain("Combine 50 frames into a master");
    expect(draw()).toContain("Take off the shelf");
    expect(draw({ taken_off: true })).toContain("Put it back on the shelf");
  });

  it("says why there is no picture, and why to use it with care", () => {
    expect(draw({ picture_trouble: "Its file is gone." })).toContain("Its file is gone.");
    const care = card().spine;
    expect(draw({ spine: { ...care, care: ["only 8 frames", "13 months old"] } })).toContain(
      "Use with care: only 8 frames; 13 months old.",
    );
  });
});
