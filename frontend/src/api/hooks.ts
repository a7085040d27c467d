import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect } from "react";

import { api, get, type Problem, type Schemas } from "./client";
import { listenTogether, thisBrowser } from "./events";

/** In a library without a rig nothing is asked of one. */
const NO_RIG = 0;

/** What the person chose for tonight's sheet; kept while the page is open. */
export interface SheetWishes {
  frames: number;
  leave_out: string[];
  add: string[];
}

const sheetQuery = (wishes: SheetWishes) => ({
  frames: wishes.frames,
  leave_out: wishes.leave_out.join(","),
  add: wishes.add.join(","),
});

/** Listening is going on: then asking again and again is not needed. */
let listening = false;
const whileDeaf = (ms: number) => () => (listening ? ms * 5 : ms);

export const useAppState = () =>
  useQuery({ queryKey: ["state"], queryFn: () => get(api.GET("/api/state")), refetchInterval: 10_000 });

export const useJobs = () =>
  useQuery({
    queryKey: ["jobs"],
    queryFn: () => get(api.GET("/api/jobs")),
    refetchInterval: whileDeaf(2000),
  });

export const useShelf = (rig: number, wishes: SheetWishes) =>
  useQuery({
    queryKey: ["shelf", rig, wishes],
    enabled: rig !== NO_RIG,
    queryFn: () =>
      get(
        api.GET("/api/rigs/{rig_id}/shelf", { params: { path: { rig_id: rig }, query: sheetQuery(wishes) } }),
      ),
    placeholderData: keepPreviousData,
  });

export const useCard = (id: number | null) =>
  useQuery({
    queryKey: ["card", id],
    enabled: id !== null,
    queryFn: () => get(api.GET("/api/holdings/{set_id}", { params: { path: { set_id: id ?? 0 } } })),
  });

export const useNights = (rig: number) =>
  useQuery({
    queryKey: ["nights", rig],
    enabled: rig !== NO_RIG,
    queryFn: () => get(api.GET("/api/rigs/{rig_id}/nights", { params: { path: { rig_id: rig } } })),
  });

export const useNight = (rig: number, night: string | undefined) =>
  useQuery({
    queryKey: ["night", rig, night],
    enabled: night !== undefined,
    queryFn: () =>
      get(
        api.GET("/api/rigs/{rig_id}/nights/{night}", {
          params: { path: { rig_id: rig, night: night ?? "" } },
        }),
      ),
  });

export const useSlip = (id: number | null) =>
  useQuery({
    queryKey: ["slip", id],
    enabled: id !== null,
    queryFn: () => get(api.GET("/api/lights/{set_id}/slip", { params: { path: { set_id: id ?? 0 } } })),
  });

export const useTonight = (rig: number, wishes: SheetWishes, enabled: boolean) =>
  useQuery({
    queryKey: ["tonight", rig, wishes],
    enabled: enabled && rig !== NO_RIG,
    queryFn: () =>
      get(
        api.GET("/api/rigs/{rig_id}/tonight", {
          params: { path: { rig_id: rig }, query: sheetQuery(wishes) },
        }),
      ),
    placeholderData: keepPreviousData,
    refetchInterval: 20_000,
  });

export const useRun = (rig: number) =>
  useQuery({
    queryKey: ["run", rig],
    enabled: rig !== NO_RIG,
    queryFn: () => get(api.GET("/api/rigs/{rig_id}/run", { params: { path: { rig_id: rig } } })),
    refetchInterval: (query) => {
      const state = query.state.data?.run?.job.state;
      return state && ["queued", "running", "paused", "waiting"].includes(state) ? whileDeaf(1000)() : 10_000;
    },
  });

export type BenchKind = "offset" | "gain";

export const useBench = (rig: number, kind: BenchKind) =>
  useQuery({
    queryKey: ["bench", rig, kind],
    enabled: rig !== NO_RIG,
    queryFn: () =>
      get(api.GET("/api/rigs/{rig_id}/bench/{kind}", { params: { path: { rig_id: rig, kind } } })),
    refetchInterval: whileDeaf(4000),
  });

export const useMeasurement = (id: number | null) =>
  useQuery({
    queryKey: ["measurement", id],
    enabled: id !== null,
    queryFn: () =>
      get(api.GET("/api/measurements/{measurement_id}", { params: { path: { measurement_id: id ?? 0 } } })),
    refetchInterval: (query) => (query.state.data?.job?.can_stop ? whileDeaf(1000)() : false),
    placeholderData: keepPreviousData,
  });

export const useFlats = (rig: number) =>
  useQuery({
    queryKey: ["flats", rig],
    enabled: rig !== NO_RIG,
    queryFn: () => get(api.GET("/api/rigs/{rig_id}/flats", { params: { path: { rig_id: rig } } })),
    refetchInterval: (query) => (query.state.data?.job?.can_stop ? whileDeaf(1000)() : 10_000),
  });

export const useFlatChart = (rig: number, key: Schemas["FlatKeyIn"] | null) =>
  useQuery({
    queryKey: ["flat-chart", rig, key],
    enabled: key !== null,
    queryFn: () =>
      get(
        api.POST("/api/rigs/{rig_id}/flats/chart", {
          params: { path: { rig_id: rig } },
          body: key as Schemas["FlatKeyIn"],
        }),
      ),
    placeholderData: keepPreviousData,
  });

export type TwilightChoice = Partial<Schemas["TwilightIn"]>;

export const useTwilight = (rig: number, choice: TwilightChoice) =>
  useQuery({
    queryKey: ["twilight", rig, choice],
    enabled: rig !== NO_RIG,
    queryFn: () =>
      get(
        api.POST("/api/rigs/{rig_id}/twilight", {
          params: { path: { rig_id: rig } },
          body: { at: null, day: null, rows: null, ...choice },
        }),
      ),
    refetchInterval: (query) => (query.state.data?.job?.can_stop ? whileDeaf(1000)() : 20_000),
    placeholderData: keepPreviousData,
  });

export const useIntake = () =>
  useQuery({
    queryKey: ["intake"],
    queryFn: () => get(api.GET("/api/intake")),
    refetchInterval: whileDeaf(3000),
  });

export const useSets = (page: number, kind: string) =>
  useQuery({
    queryKey: ["sets", page, kind],
    queryFn: () => get(api.GET("/api/sets", { params: { query: { page, kind } } })),
    placeholderData: keepPreviousData,
  });

export const useProblems = (page: number, state: string) =>
  useQuery({
    queryKey: ["problems", page, state],
    queryFn: () => get(api.GET("/api/problems", { params: { query: { page, state } } })),
    placeholderData: keepPreviousData,
  });

export const useSearch = (q: string) =>
  useQuery({
    queryKey: ["search", q],
    enabled: q.trim().length > 1,
    queryFn: () => get(api.GET("/api/search", { params: { query: { q } } })),
    placeholderData: keepPreviousData,
  });

/** A change; everything on the page is asked for anew afterwards. */
export function useChange<Input, Output>(change: (input: Input) => Promise<Output>) {
  const client = useQueryClient();
  return useMutation<Output, Problem, Input>({
    mutationFn: change,
    onSettled: () => client.invalidateQueries(),
  });
}

export const useJobAction = () =>
  useChange(({ id, action }: { id: number; action: "stop" | "pause" | "go-on" | "resume" }) =>
    get(api.POST("/api/jobs/{job_id}/{action}", { params: { path: { job_id: id, action } } })),
  );

/** What a person says at a gate, of whatever work. */
export const useAnswer = () =>
  useChange(({ gate, say }: { gate: Schemas["GateOut"]; say: "done" | "leave out" }) =>
    get(
      api.POST("/api/jobs/{job_id}/answer", {
        params: { path: { job_id: gate.job_id } },
        body: { step_id: gate.step_id, answer: say },
      }),
    ),
  );

/** Listen for events and ask anew for what they are about; where there is no event, asking on a timer does. */
export function useEvents() {
  const client = useQueryClient();
  useEffect(() => {
    let waiting: number | undefined;
    const told = new Set<string>();
    const flush = () => {
      // What is being fetched is left to come: else, where events come faster than answers, none ever would.
      if (client.isFetching({ predicate: (query) => told.has(String(query.queryKey[0])) }) > 0) {
        waiting = window.setTimeout(flush, 150);
        return;
      }
      waiting = undefined;
      for (const key of told) void client.invalidateQueries({ queryKey: [key] });
      told.clear();
    };
    const stop = listenTogether(thisBrowser(), {
      onListening: (now) => {
        listening = now;
      },
      onMissed: () => void client.invalidateQueries(),
      onEvent: (event) => {
        if (event.type === "run") told.add("run");
        if (event.type === "state") told.add("state");
        if (event.type === "bench") for (const key of ["bench", "measurement"]) told.add(key);
        if (event.type === "twilight") told.add("twilight");
        if (event.type === "flats") for (const key of ["flats", "flat-chart"]) told.add(key);
        if (event.type === "job")
          for (const key of ["jobs", "run", "intake", "measurement", "flats", "flat-chart", "twilight"])
            told.add(key);
        waiting ??= window.setTimeout(flush, 250);
      },
    });
    return () => {
      stop();
      window.clearTimeout(waiting);
    };
  }, [client]);
}

/** Ask for everything anew whenever a piece of work has ended. */
export function useRefreshAfterWork(jobs: Schemas["JobsOut"] | undefined) {
  const client = useQueryClient();
  const ended = jobs?.ended.map((job) => `${job.id}${job.state}`).join() ?? "";
  useEffect(() => {
    if (ended) void client.invalidateQueries();
  }, [client, ended]);
}
