import { keepPreviousData, type UseQueryResult } from "@tanstack/react-query";
import { useCallback, useState } from "react";

import { asked, type Problem, type Schemas } from "../../api/client";

export type PlanIO = Schemas["NightPlanIO"];
export type Target = Schemas["PlannedTargetIO"];
export type Lights = Schemas["PlannedLightsIO"];
export type Priced = Schemas["PricedOut"];
export type PlansData = Schemas["PlansOut"];
export type FilterChoice = Schemas["FilterChoiceOut"];

/** A plan being thought of, with its name. */
export interface Draft {
  name: string;
  plan: PlanIO;
}

/** One plan, or two side by side. */
export type Drafts = [Draft] | [Draft, Draft];

export const usePlans = (rig: number) =>
  asked.useQuery("get", "/api/rigs/{rig_id}/plans", {
    params: { path: { rig_id: rig } },
  }) as UseQueryResult<PlansData, Problem>;

export const usePrices = (rig: number, drafts: Drafts | null) =>
  asked.useQuery(
    "post",
    "/api/rigs/{rig_id}/plans/price",
    {
      params: { path: { rig_id: rig } },
      body: { plans: (drafts ?? []).map((d) => d.plan), names: (drafts ?? []).map((d) => d.name) },
    },
    { enabled: drafts !== null, placeholderData: keepPreviousData, retry: false },
  ) as UseQueryResult<Schemas["PricesOut"], Problem>;

/** The plan without the lights in some filters; a target that has none then is left out. */
export function only(plan: PlanIO, keep: (code: string) => boolean): PlanIO {
  const targets = plan.targets
    .map((t) => ({ ...t, lights: t.lights.filter((one) => keep(one.filter_code)) }))
    .filter((t) => t.lights.length > 0);
  return { ...plan, targets };
}

/** Put a filter's lights onto each target that lacks them, or take them off all. */
export function withFilter(plan: PlanIO, filter: FilterChoice, on: boolean): PlanIO {
  const targets = plan.targets.map((t) => {
    const others = t.lights.filter((one) => one.filter_code !== filter.filter_code);
    return { ...t, lights: on ? [...others, lightsOf(filter)] : others };
  });
  return { ...plan, targets };
}

export const lightsOf = ({
  filter_code,
  exposure_s,
  count,
  gain,
  offset,
  binning,
}: FilterChoice): Lights => ({
  filter_code,
  exposure_s,
  count,
  gain,
  offset,
  binning,
});

/** Where a plan begins: like the newest night, and beside it the same in broad filters alone, where it had both. */
export function begin(data: PlansData): Drafts | null {
  if (!data.last) return null;
  const broad = new Set(data.filters.filter((f) => f.broad).map((f) => f.filter_code));
  const used = new Set(data.last.targets.flatMap((t) => t.lights.map((one) => one.filter_code)));
  const both = [...used].some((code) => broad.has(code)) && [...used].some((code) => !broad.has(code));
  const whole = { name: both ? "Both" : "The night", plan: data.last };
  return both ? [whole, { name: "Broad only", plan: only(data.last, (code) => broad.has(code)) }] : [whole];
}

const isDrafts = (kept: unknown): kept is Drafts =>
  Array.isArray(kept) && kept.length > 0 && kept.every((d) => Array.isArray((d as Draft)?.plan?.targets));

/** The plans that are thought of, kept over a reload until they are begun anew. */
export function useDrafts(rig: number, data: PlansData | undefined) {
  const place = `plans:${rig}`;
  const [typed, setTyped] = useState<Drafts | null>(() => {
    try {
      const kept: unknown = JSON.parse(localStorage.getItem(place) ?? "null");
      return isDrafts(kept) ? kept : null;
    } catch {
      return null;
    }
  });
  const change = useCallback(
    (next: Drafts | null) => {
      setTyped(next);
      if (next) localStorage.setItem(place, JSON.stringify(next));
      else localStorage.removeItem(place);
    },
    [place],
  );
  return { drafts: typed ?? (data ? begin(data) : null), typed: typed !== null, change };
}
