import { keepPreviousData, type UseQueryResult } from "@tanstack/react-query";
import { useCallback, useState } from "react";

import { asked, type Problem, type Schemas } from "../../api/client";
import { numberOf } from "../../parts/typedNumber";

export type FillData = Schemas["FillOut"];
export type FillCell = Schemas["FillCellOut"];

export type SensorThen = Schemas["FillIn"]["sensor_then"];

/** What ends it: a time by the clock, hours, or a battery. */
export type EndBy = "until" | "hours" | "battery";

export interface FillChoice {
  by: EndBy;
  until: string;
  hours: string;
  battery: string;
  watts: string;
  air: string;
  sensor: SensorThen;
  put_on: string[];
  left_out: string[];
  counts: Record<string, number>;
}

const PLACE = "fill";
const USUAL: FillChoice = {
  by: "until",
  until: "05:30",
  hours: "3",
  battery: "500",
  watts: "40",
  air: "",
  sensor: "kept cold",
  put_on: [],
  left_out: [],
  counts: {},
};

/** Null where nothing or no number stands there. */
const number = (text: string) => (Number.isFinite(numberOf(text)) ? numberOf(text) : null);

/** The choice as the server is asked; nothing that is no number is sent. */
export function asAsked(choice: FillChoice): Schemas["FillIn"] {
  const of = (by: EndBy, text: string) => (choice.by === by ? number(text) : null);
  return {
    until: choice.by === "until" ? choice.until : null,
    hours: of("hours", choice.hours),
    battery_wh: of("battery", choice.battery),
    watts: of("battery", choice.watts),
    air_c: number(choice.air),
    put_on: choice.put_on.join(","),
    left_out: choice.left_out.join(","),
    counts: Object.entries(choice.counts)
      .map(([key, frames]) => `${key}=${frames}`)
      .join(","),
    by_hand: false,
    sensor_then: choice.sensor,
    folder: null,
  };
}

/** As an address has it: without what was not chosen. */
export function asQuery(choice: FillChoice): Record<string, string | number> {
  const known = Object.entries(asAsked(choice)).filter(
    ([name, value]) => name !== "by_hand" && name !== "sensor_then" && value !== null && value !== "",
  );
  return Object.fromEntries(known) as Record<string, string | number>;
}

/** What was chosen for a rig, kept over a reload. */
export function useFillChoice(rig: number) {
  const place = `${PLACE}:${rig}`;
  const [choice, setChoice] = useState<FillChoice>(() => {
    try {
      return { ...USUAL, ...(JSON.parse(localStorage.getItem(place) ?? "{}") as Partial<FillChoice>) };
    } catch {
      return USUAL;
    }
  });
  const change = useCallback(
    (next: Partial<FillChoice>) =>
      setChoice((before) => {
        const after = { ...before, ...next };
        localStorage.setItem(place, JSON.stringify(after));
        return after;
      }),
    [place],
  );
  return { choice, change, asProposed: () => change({ put_on: [], left_out: [], counts: {} }) };
}

export const useFill = (rig: number, choice: FillChoice) =>
  asked.useQuery(
    "get",
    "/api/rigs/{rig_id}/fill",
    { params: { path: { rig_id: rig }, query: asQuery(choice) } },
    { placeholderData: keepPreviousData, refetchInterval: 30_000, retry: false },
  ) as UseQueryResult<FillData, Problem>;

const without = (list: string[], key: string) => list.filter((k) => k !== key);

/** A cell clicked in or out. */
export function toggled(choice: FillChoice, cell: FillCell): Partial<FillChoice> {
  if (cell.state === "on")
    return { put_on: without(choice.put_on, cell.key), left_out: [...choice.left_out, cell.key] };
  return {
    put_on: [...without(choice.put_on, cell.key), cell.key],
    left_out: without(choice.left_out, cell.key),
  };
}
