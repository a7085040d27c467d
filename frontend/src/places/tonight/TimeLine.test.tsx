import { renderToStaticMarkup } from "react-dom/server";
import { describe, expect, it } from "vitest";

import type { Schemas } from "../../api/client";
import { TimeLine } from "./TimeLine";

type Step = Schemas["StepOut"];

let at = Date.parse("2026-10-19T00:12:00Z");
function step(id: number, kind: string, minutes: number, more: Partial<Step> = {}): Step {
  const start = new Date(at).toISOString();
  at += minutes * 60_000;
  return {
    id,
    kind,
    title: `${kind} ${id}`,
    filter_code: null,
    passband_nm: null,
    count: 25,
    done: 0,
    state: "to do",
    start,
    end: new Date(at).toISOString(),
    start_clock: "01:12",
    end_clock: "01:14",
    exposure: "4 s",
    exposure_known: false,
    needs_person: kind === "gate",
    row: null,
    gate:
      kind === "gate"
        ? {
            job_id: 1,
            step_id: id,
            sign: id === 1 ? "panel" : "cap",
            title: "",
            advice: "",
            brief: "",
            answer: "Go on",
            leave_out: "",
          }
        : null,
    lights: 0,
    wanted: false,
    outcome: "",
    tick: "",
    line: "",
    ...more,
  };
}

const sheet = (): Step[] => [
  step(1, "gate", 2),
  step(2, "find", 1, { row: 0, filter_code: "SII", count: 3 }),
  step(3, "flats", 3, { row: 0, filter_code: "SII", wanted: true }),
  step(4, "gate", 2),
  step(5, "dark flats", 3, { row: 0, filter_code: "SII" }),
  step(6, "build", 1),
  step(7, "darks", 151, { wanted: true, lights: 17 }),
];
const draw = (steps: Step[], running = false) =>
  renderToStaticMarkup(<TimeLine steps={steps} current={null} running={running} />);
const items = (markup: string) => [...markup.matchAll(/role="listitem"/g)].length;
const places = (markup: string) =>
  [...markup.matchAll(/style="left:([\d.]+)px;width:([\d.]+)px"/g)].map((m) => [Number(m[1]), Number(m[2])]);

describe("the time line", () => {
  it("draws a search and its flats as one block, and no build", () => {
    expect(items(draw(sheet()))).toBe(5);
  });
  it("lays blocks and gates side by side, with a break before darks, and never past its edge", () => {
    const found = places(draw(sheet())).filter(([, width]) => width !== 64);
    let end = 0;
    for (const [left = 0, width = 0] of found) {
      expect(left).toBeGreaterThanOrEqual(end - 0.01);
      end = left + width;
    }
    expect(end).toBeLessThanOrEqual(1232);
    expect(draw(sheet())).toContain("17 lights wait");
  });
  it("colours the first gate before the start, and in a run only one that waits", () => {
    expect(draw(sheet())).toContain("bg-accent");
    expect(draw(sheet(), true)).not.toContain("bg-accent");
    const waiting = sheet().map((s) =>
      s.id === 4
        ? { ...s, state: "waiting" as const }
        : { ...s, state: s.id < 4 ? ("done" as const) : s.state },
    );
    expect(draw(waiting, true)).toContain("bg-accent");
  });
  it("says where a search found no answer, and leaves out what is skipped", () => {
    const lost = sheet().map((s) =>
      s.id === 2
        ? { ...s, state: "no answer" as const }
        : s.row === 0
          ? { ...s, state: "skipped" as const }
          : s,
    );
    const markup = draw(lost);
    expect(markup).toContain("no answer");
    expect(items(markup)).toBe(4);
  });
});
