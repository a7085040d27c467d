import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { scaleLinear } from "d3-scale";
import type { ReactNode } from "react";
import { renderToStaticMarkup } from "react-dom/server";
import { describe, expect, it } from "vitest";

import type { Schemas } from "../../../api/client";
import { Axes } from "../../../parts/Axes";
import { Editor } from "./Editor";
import { Going } from "./Going";
import { asItIs, NO_WISHES, OWN, type Row } from "./keys";
import { Rows } from "./Rows";

const draw = (what: ReactNode) =>
  renderToStaticMarkup(<QueryClientProvider client={new QueryClient()}>{what}</QueryClientProvider>);

const wishes = {
  level_percent: 45,
  level_adu: null,
  tolerance_percent: 10,
  shortest_s: 0.5,
  longest_s: 30,
  mode: "time",
  n_flats: 25,
  n_dark_flats: 25,
  diffusers: [],
} as unknown as Schemas["FlatWishesOut"];

const row = (code: string, more: Partial<Row> = {}): Row =>
  ({
    key: { filter_code: code, gain: 200, offset: 30, binning: 1 },
    name: `${code}, gain 200, offset 30`,
    gain: "200",
    passband_nm: 656,
    state: "never",
    brightness: "–",
    exposure: "–",
    shots: 0,
    stale: "",
    drift: "",
    diffusers: "",
    own: [],
    wishes,
    ruler: null,
    no_answer: null,
    history: [],
    ...more,
  }) as Row;

const no = {
  title: "L cannot get dim enough",
  message: "The level is 2.8 times too high.",
  advice: "Add 1.5 stops of diffuser.",
  stack: "Hang neutral film: 2.0 stops.",
  direction: "too bright",
  stops: 1.5,
  at_least: false,
  level_text: "81,133 ADU",
  allow: "Allow 0.17 s for L",
  allow_changes: null,
  retry: "Try L again",
} as unknown as Schemas["NoOut"];

const rows = (...list: Row[]) =>
  draw(<Rows rows={list} rig={1} chosen={list[0]?.key ?? null} onChoose={() => undefined} />);

describe("the rows beside the chart", () => {
  it("say of each where it stands", () => {
    const html = rows(
      row("Ha"),
      row("OIII", { state: "searching" }),
      row("SII", { state: "waiting" }),
      row("R", { exposure: "0.85 s", brightness: "20", shots: 6, stale: "another panel since (3 Oct 26)" }),
    );
    for (const words of [
      "never looked for",
      "looking",
      "to come",
      "0.85 s",
      "another panel since (3 Oct 26)",
    ])
      expect(html).toContain(words);
    expect(html).toContain('aria-label="6 test shots"');
    expect(html.match(/aria-current="true"/g)).toHaveLength(1);
    expect(html).not.toContain("bin 1");
    expect(rows(row("Ha", { key: { ...row("Ha").key, binning: 2 } }))).toContain("bin 2");
  });

  it("say of one without answer why, by how much and what would help", () => {
    const html = rows(row("L", { state: "no answer", no_answer: no }));
    for (const words of [
      "too bright, 1.5 stops",
      "L cannot get dim enough",
      "Hang neutral film: 2.0 stops.",
      "−1.5 stops",
      "81,133 ADU now",
      "Try L again",
      "Allow 0.17 s for L",
    ])
      expect(html).toContain(words);
    const least = rows(row("L", { state: "no answer", no_answer: { ...no, at_least: true } }));
    expect(least).toContain("too bright, ≥1.5 stops");
    expect(least).toContain("at least −1.5 stops");
    const later = rows(row("L", { state: "waiting", no_answer: no }));
    expect(later).toContain("tried again behind that, after the others");
    expect(later).not.toContain("Try L again");
  });
});

const sheet = (more: Partial<Schemas["FlatSheetOut"]>) =>
  ({
    rows: [row("Ha"), row("SII")],
    headline: "The setting for Ha",
    searching: row("Ha").key,
    gate: null,
    next: null,
    job: {
      id: 7,
      state: "running",
      can_stop: true,
      can_pause: true,
      can_resume: false,
      progress: 0.25,
      message: "",
    },
    ...more,
  }) as Schemas["FlatSheetOut"];

const going = (more: Partial<Schemas["FlatSheetOut"]>) => draw(<Going data={sheet(more)} rig={1} next="" />);

describe("what goes on", () => {
  it("asks for a hand at a gate, and never ends the search by itself", () => {
    const gate = {
      job_id: 1,
      step_id: 2,
      brief: "",
      title: "Hang neutral film",
      advice: "Before the panel: neutral film, and nothing else.",
      answer: "Neutral film hangs: go on",
      leave_out: "Leave L and R out",
      sign: "diffuser",
    };
    const html = going({ gate });
    for (const words of [gate.title, gate.advice, gate.answer, gate.leave_out, "Stop"])
      expect(html).toContain(words);
    expect(going({ gate: { ...gate, leave_out: "" } })).not.toContain("Leave");
  });

  it("tells somebody at another program the next thing in one line", () => {
    const next = {
      line: "Shoot one flat of 2.5 s",
      detail: "Ha, gain 200, offset 30, binning 1",
      why: "the last setting for this filter",
      refused: [{ name: "a.fits", why: "It is a light, not a flat. Take a flat." }],
      folder: "/home/x/flats",
    };
    const html = going({ next });
    expect(html).toMatch(/<h2[^>]*>Shoot one flat of 2.5 s<\/h2>/);
    for (const words of [next.detail, next.why, "a.fits", "Take a flat", next.folder, "Leave Ha out", "Stop"])
      expect(html).toContain(words);
    expect(going({ next, rows: [row("Ha")] })).not.toContain("Leave Ha out");
  });

  it("shows how far it is, and what was cut short with a way on", () => {
    expect(going({})).toContain("25 %");
    const job = { ...sheet({}).job, state: "stopped", can_stop: false, can_resume: true, advice: "" };
    const html = going({ job: job as Schemas["JobOut"] });
    expect(html).toContain("The search was stopped.");
    expect(html).toContain("Go on from there");
    expect(going({ job: null })).toBe("");
  });
});

describe("wishes of rows", () => {
  it("are given back as they were: own ones as held, all others let go of", () => {
    const held = asItIs(row("Ha", { own: ["longest_s"], wishes: { ...wishes, longest_s: 20 } }));
    expect(held).toEqual({ ...NO_WISHES, longest_s: 20 });
    expect(Object.keys(held)).toHaveLength(OWN.length);
  });

  it("are edited together, with what the light can do", () => {
    const edit = (dims: boolean, diffusers: string[]) =>
      draw(
        <Editor
          rows={[row("Ha"), row("SII", { own: ["longest_s"] })]}
          rig={1}
          dims={dims}
          diffusers={diffusers}
          sources={["Lumen tile", "Lit wall"]}
          onDone={() => undefined}
        />,
      );
    const html = edit(true, ["white cloth"]);
    for (const words of [
      "What is wanted of Ha, SII",
      "only what you change here",
      "white cloth",
      "Lit wall",
      "Brightness",
    ])
      expect(html).toContain(words);
    expect(html).toContain("Back to what the rig wants");
    expect(html).toMatch(/disabled=""[^>]*>Keep for 2 rows/);
    expect(edit(false, [])).not.toContain("What is found");
  });
});

describe("axes", () => {
  it("leave out the numbers that an answer's box would cut", () => {
    const x = scaleLinear().domain([0, 10]).range([0, 700]);
    const y = scaleLinear().domain([0, 60_000]).range([400, 0]);
    const axes = (covered: { x: number; y: number } | null) =>
      draw(
        <svg>
          <Axes
            x={x}
            y={y}
            left={0}
            right={700}
            top={0}
            base={400}
            xTicks={10}
            yTicks={6}
            covered={covered}
          />
        </svg>,
      );
    const texts = (html: string) => [...html.matchAll(/<text[^>]*>([^<]*)<\/text>/g)].map((m) => m[1]);
    expect(texts(axes(null))).toContain("5");
    const cut = texts(axes({ x: x(5.2), y: y(29_500) }));
    expect(cut).not.toContain("5");
    expect(cut).not.toContain("30,000");
    expect(cut).toContain("7");
    expect(cut).toContain("20,000");
  });
});
