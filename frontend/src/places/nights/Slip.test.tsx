import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { renderToStaticMarkup } from "react-dom/server";
import { MemoryRouter } from "react-router";
import { describe, expect, it } from "vitest";

import { asked, type Schemas } from "../../api/client";
import { HereContext, type Here } from "../../parts/context";
import { Slip } from "./Slip";

type SlipOut = Schemas["SlipOut"];
type Line = Schemas["SlipLineOut"];
type Candidate = Schemas["CandidateOut"];

const here = {
  wishes: { frames: 25, add: [], leave_out: [] },
  setWishes: () => undefined,
} as unknown as Here;

const temperature: Schemas["RulerOut"] = {
  quantity: "temperature",
  kind: "band",
  unit: "°C",
  wanted: -10,
  measured: -9.6,
  distance: 0.4,
  tolerance: 1,
  inside: true,
  unknown: false,
  note: "",
  from_name: false,
  by_hand: false,
  text: "+0.4 °C",
};
const gain = (measured: number): Schemas["RulerOut"] => ({
  ...temperature,
  quantity: "gain",
  kind: "exact",
  unit: "",
  wanted: 200,
  measured,
  distance: measured - 200,
  tolerance: null,
  inside: measured === 200,
  text: String(measured),
});

const candidate = (id: number, more: Partial<Candidate> = {}): Candidate => ({
  holding_id: id,
  title: `Dark ${id}`,
  detail: "50 frames, 12 Sep 26",
  age_step: 1,
  care: false,
  cost: "0.2 e⁻",
  is_master: true,
  lost_on: "",
  reasons: [],
  rulers: [gain(200), temperature],
  scaled: false,
  scale: null,
  verdict: "fits",
  ...more,
});

const line = (kind: string, more: Partial<Line> = {}): Line => ({
  kind,
  verdict: "fits",
  note: "",
  waits: false,
  by_hand: false,
  chosen: candidate(1),
  runners_up: [],
  ...more,
});

function draw(more: Partial<SlipOut>): string {
  const client = new QueryClient();
  client.setQueryData(
    asked.queryOptions("get", "/api/lights/{set_id}/slip", { params: { path: { set_id: 7 } } }).queryKey,
    {
      advice: "",
      columns: [{ name: "gain" }, { name: "temperature" }],
      filter_code: "SII",
      passband_nm: 672,
      lines: [line("dark")],
      offers: [],
      set_id: 7,
      target: "NGC 6888",
      title: "8 × 300 s",
      verdict: "fits",
      warnings: [],
      questions: [],
      said: [],
      rig_id: 1,
      gain_word: "gain",
      ...more,
    } as unknown as SlipOut,
  );
  return renderToStaticMarkup(
    <QueryClientProvider client={client}>
      <HereContext value={here}>
        <MemoryRouter>
          <Slip id={7} onClose={() => undefined} />
        </MemoryRouter>
      </HereContext>
    </QueryClientProvider>,
  );
}

describe("a pull slip", () => {
  it("shows what was pulled, how near it is, and takes the tolerance into the head of its column", () => {
    const html = draw({});
    for (const words of ["NGC 6888", "Dark 1", "50 frames, 12 Sep 26", "temperature, ±1 °C", "+0.4 °C"])
      expect(html).toContain(words);
    expect(html).toContain('href="/shelf?pull=1"');
    expect(html).toContain("/api/lights/7/slip.csv");
  });

  it("leads from a flat to the wall where it stands", () => {
    expect(draw({ lines: [line("flat", { chosen: candidate(4) })] })).toContain(
      'href="/shelf?pull=4&amp;wall=flats"',
    );
  });

  it("tells of the next best what it lost on, one until it is opened", () => {
    const lost = [2, 3, 4].map((id) =>
      candidate(id, { lost_on: `gain ${id}00, not 200`, verdict: "nothing fits", rulers: [gain(id * 100)] }),
    );
    const html = draw({ lines: [line("dark", { runners_up: lost })] });
    expect(html).toContain("next best of 3");
    expect(html).toContain("lost: gain 200, not 200");
    expect(html).not.toContain("lost: gain 300");
    const one = draw({ lines: [line("dark", { runners_up: lost.slice(0, 1) })] });
    expect(one).toContain("next best");
    expect(one).not.toContain("next best of");
  });

  it("offers to scale a longer dark only where that is offered, and asks before it is done", () => {
    const scale = { action: "scale to 180 s", told: ["It costs 1.3 e⁻."] };
    const html = (more: Partial<Candidate>) =>
      draw({
        lines: [line("dark", { chosen: null, verdict: "nothing fits", runners_up: [candidate(2, more)] })],
      });
    expect(html({})).not.toContain("scale to");
    expect(html({ scale })).toContain("scale to 180 s …");
    expect(html({ scale })).not.toContain("It costs");
    const note = "the dark that you chose cannot be scaled any more";
    const more = { chosen: null, verdict: "nothing fits" as const, runners_up: [candidate(2)], note };
    expect(draw({ lines: [line("dark", more)] })).toContain(
      "The dark that you chose cannot be scaled any more.",
    );
  });

  it("says a gap once: what waits for the flat is no gap of its own", () => {
    const html = draw({
      verdict: "nothing fits",
      lines: [
        line("flat", { chosen: null, verdict: "nothing fits" }),
        line("dark flat", { chosen: null, verdict: "nothing fits", waits: true }),
      ],
    });
    expect(html.split("None is on the shelf.").length - 1).toBe(1);
    expect(html).toContain("waits for the flat");
  });

  it("offers to shoot what is missing, and nothing where all fits or nothing can be shot", () => {
    const gap = [line("flat", { chosen: null, verdict: "nothing fits" as const })];
    expect(draw({ verdict: "nothing fits", lines: gap, offers: ["flat SII"] })).toContain("Shoot it tonight");
    const several = draw({ verdict: "nothing fits", lines: gap, offers: ["dark 300 s", "flat SII"] });
    expect(several).toContain("Shoot them tonight");
    expect(draw({ verdict: "nothing fits", lines: gap, offers: [] })).not.toContain("Shoot it tonight");
    expect(draw({ verdict: "fits", offers: ["flat SII"] })).not.toContain("Shoot it tonight");
  });

  it("asks once what no header tells, and keeps a way back from the answer", () => {
    const question = {
      quantity: "angle",
      text: "Is the camera ever turned?",
      fixed: "Never turned",
      moves: "It is turned",
    };
    const html = draw({ questions: [question], said: [{ quantity: "focus", text: "focus: it is moved" }] });
    for (const words of ["Is the camera ever turned?", "Never turned", "It is turned", "focus: it is moved"])
      expect(html).toContain(words);
    expect(html).toContain("Take back: focus: it is moved");
  });

  it("never says that none is there where what was wanted is taken off already", () => {
    const done = line("dark flat", { chosen: null, note: "already taken off in the master flat" });
    const html = draw({ lines: [done] });
    expect(html).toContain("Already taken off in the master flat.");
    expect(html).not.toContain("on the shelf");
  });

  it("writes no word over the next ruler: what is not known has its sign, and its reason above", () => {
    const unknown = { ...gain(0), measured: null, inside: false, unknown: true, text: "unknown" };
    const html = draw({ lines: [line("dark", { chosen: candidate(1, { rulers: [unknown] }) })] });
    expect(html).not.toContain(">unknown<");
    expect(html).toContain('aria-label="gain: unknown"');
  });

  it("calls the gain what the camera calls it", () => {
    expect(draw({ gain_word: "ISO" })).toContain(">ISO<");
  });

  it("has only a sentence for lights that are calibrated already", () => {
    const html = draw({
      lines: [],
      verdict: "nothing fits",
      warnings: ["These lights are already calibrated."],
    });
    expect(html).toContain("These lights are already calibrated.");
    expect(html).not.toContain("<table");
  });
});
