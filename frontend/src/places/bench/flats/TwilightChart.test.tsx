import { createRef } from "react";
import { renderToStaticMarkup } from "react-dom/server";
import { describe, expect, it } from "vitest";

import type { Schemas } from "../../../api/client";
import { TwilightChart } from "./TwilightChart";

const row = (code: string, more: Partial<Schemas["TwilightRow"]> = {}): Schemas["TwilightRow"] => ({
  key: { filter_code: code, gain: 200, offset: 30, binning: 1 },
  gain_text: "gain 200",
  passband_nm: null,
  count: 10,
  done: 0,
  set_aside: 0,
  fit: 300,
  planned: 10,
  opens: 20,
  shuts: 60,
  begins: 20,
  ends: 25,
  window_text: "open 18:20–19:00, 300 fit",
  plan_text: "18:20 to 18:25",
  exposures_text: "0.5 to 0.9 s",
  light_text: "",
  first_exposure_s: 0.5,
  last_exposure_s: 0.9,
  trouble: "",
  state: "plan",
  shots: [],
  ...more,
});

const data = {
  rig: "Heron 92",
  at: "dusk",
  shows: "plan",
  day: "2026-10-19",
  title: "Dusk of 19 Oct: 18:20 to 18:40",
  from_x: 0,
  to_x: 80,
  now_x: 30,
  hours: [{ x: 20, text: "18:20" }],
  sun: [
    { x: 70, degree: -2, text: "−2°" },
    { x: 40, degree: -1, text: "−1°" },
    { x: 10, degree: 0, text: "sun sets" },
  ],
  rows: [row("SII"), row("L", { planned: 4, begins: 50, ends: 55 })],
} as unknown as Schemas["TwilightOut"];

const draw = (more: Partial<Schemas["TwilightOut"]> = {}) =>
  renderToStaticMarkup(
    <TwilightChart
      data={{ ...data, ...more }}
      chosen={null}
      onChoose={() => undefined}
      chart={createRef()}
    />,
  );

/** Where a text stands. */
const placeOf = (html: string, text: string) => {
  const before = html.slice(0, html.indexOf(`>${text}<`));
  const at = before.lastIndexOf("<text");
  const [, x] = /\sx="([\d.]+)"/.exec(before.slice(at)) ?? [];
  const [, y] = /\sy="([\d.]+)"/.exec(before.slice(at)) ?? [];
  return [Number(x), Number(y)] as const;
};

describe("the chart of a twilight", () => {
  it("says of each row how many flats of which exposures fit, and where now is", () => {
    const html = draw();
    for (const words of ["10 flats, 0.5 to 0.9 s", "4 of 10 flats, 0.5 to 0.9 s", "18:20", "now", "gain 200"])
      expect(html).toContain(words);
  });

  it("lets the sun sink at dusk and rise at dawn", () => {
    const dusk = draw();
    expect(placeOf(dusk, "sun sets")[1]).toBeLessThan(placeOf(dusk, "−2°")[1]);
    const sun = [
      { x: 10, degree: -2, text: "−2°" },
      { x: 40, degree: -1, text: "−1°" },
      { x: 70, degree: 0, text: "sun rises" },
    ];
    const dawn = draw({ at: "dawn", sun });
    expect(placeOf(dawn, "sun rises")[1]).toBeLessThan(placeOf(dawn, "−2°")[1]);
    expect(placeOf(dawn, "sun rises")[0]).toBeGreaterThan(placeOf(dawn, "−2°")[0]);
  });

  it("tells where a filter never comes to its turn, and where the sky never suits it", () => {
    const html = draw({
      rows: [
        row("R", { planned: 0, begins: null, ends: null, plan_text: "no time left" }),
        row("L", { opens: null, shuts: null, begins: null, ends: null, plan_text: "the sky never suits it" }),
      ],
    });
    expect(html).toContain("no time left");
    expect(html).toContain("the sky never suits it");
  });

  it("draws every frame of a run, and tells flats from looks and what was set aside", () => {
    const shot = (x: number, what: "flat" | "look" | "set aside") => ({ x, what, text: `at ${x}`, why: "" });
    const shots = [shot(18, "look"), shot(20, "flat"), shot(21, "flat"), shot(22, "set aside")];
    const html = draw({ shows: "run", rows: [row("SII", { done: 2, shots })] });
    expect(html).toContain("2 of 10, 0.5 to 0.9 s");
    const marks = html.split("<g opacity").length - 1;
    expect(marks).toBe(4);
    for (const words of ["still to come", "flats", "a look", "set aside"])
      expect(html).toContain(`>${words}<`);
    const over = draw({
      shows: "run",
      rows: [row("SII", { begins: null, ends: null, shots: [shot(20, "flat")] })],
    });
    for (const words of ["still to come", "a look", "set aside"]) expect(over).not.toContain(`>${words}<`);
  });
});
