import {
  keepPreviousData,
  useMutation,
  useQueryClient,
  type Query,
  type UseQueryResult,
} from "@tanstack/react-query";
import { useEffect } from "react";

import { api, asked, get, type Problem, type Schemas } from "./client";
import type { paths } from "./schema";
import { listenTogether, thisBrowser } from "./events";

/** In a library without a rig nothing is asked of one. */
const NO_RIG = 0;

/** What the person chose for tonight's sheet; kept while the page is open. */
export interface SheetWishes {
  /** null leaves it to the house rules. */
  frames: number | null;
  leave_out: string[];
  add: string[];
  /** Where the flats go tonight; without it as the house rules have it. */
  go?: Schemas["TonightOut"]["go"] | undefined;
  /** No frame is begun that would end later: '05:30'. */
  until?: string | undefined;
  /** What becomes of a cooled sensor once nothing needs it cold. */
  sensor?: Schemas["StartIn"]["sensor_then"] | undefined;
}

const sheetQuery = (wishes: SheetWishes) => ({
  ...(wishes.frames === null ? {} : { frames: wishes.frames }),
  leave_out: wishes.leave_out.join(","),
  add: wishes.add.join(","),
  ...(wishes.go ? { go: wishes.go } : {}),
});

/** Listening is going on: then asking again and again is not needed. */
let listening = false;
const whileDeaf = (ms: number) => () => (listening ? ms * 5 : ms);

const ofRig = (rig: number) => ({ params: { path: { rig_id: rig } } });
/** Asked again often while something goes on, and seldom otherwise. */
const often = (goesOn: boolean | undefined, otherwise: number | false) =>
  goesOn ? whileDeaf(1000)() : otherwise;

// Of these two the document tells no failure; they can fail all the same.
export const useAppState = () =>
  asked.useQuery("get", "/api/state", {}, { refetchInterval: 10_000 }) as UseQueryResult<
    Schemas["StateOut"],
    Problem
  >;

export const useJobs = () => asked.useQuery("get", "/api/jobs", {}, { refetchInterval: whileDeaf(2000) });

export const useShelf = (rig: number, wishes: SheetWishes) =>
  asked.useQuery(
    "get",
    "/api/rigs/{rig_id}/shelf",
    { params: { path: { rig_id: rig }, query: sheetQuery(wishes) } },
    { enabled: rig !== NO_RIG, placeholderData: keepPreviousData },
  );

export const useRig = (rig: number) =>
  asked.useQuery("get", "/api/rigs/{rig_id}", ofRig(rig), {
    enabled: rig !== NO_RIG,
    placeholderData: keepPreviousData,
  });

/** Where headers say that a rig stands, where that is not what is kept; files are read for it. */
export const usePlaceOfRig = (rig: number) => asked.useQuery("get", "/api/rigs/{rig_id}/place", ofRig(rig));

/** Rigs that headers propose, and what is asked of names. */
export const useProposal = () =>
  asked.useQuery("get", "/api/rigs/proposal", {}, { placeholderData: keepPreviousData });

export const useCard = (id: number | null) =>
  asked.useQuery(
    "get",
    "/api/holdings/{set_id}",
    { params: { path: { set_id: id ?? 0 } } },
    { enabled: id !== null },
  );

export const useNights = (rig: number) =>
  asked.useQuery("get", "/api/rigs/{rig_id}/nights", ofRig(rig), { enabled: rig !== NO_RIG });

export const useNight = (rig: number, night: string | undefined) =>
  asked.useQuery(
    "get",
    "/api/rigs/{rig_id}/nights/{night}",
    { params: { path: { rig_id: rig, night: night ?? "" } } },
    { enabled: night !== undefined },
  );

export const useSlip = (id: number | null) =>
  asked.useQuery(
    "get",
    "/api/lights/{set_id}/slip",
    { params: { path: { set_id: id ?? 0 } } },
    { enabled: id !== null },
  );

export const useTonight = (rig: number, wishes: SheetWishes, enabled: boolean) =>
  asked.useQuery(
    "get",
    "/api/rigs/{rig_id}/tonight",
    { params: { path: { rig_id: rig }, query: sheetQuery(wishes) } },
    { enabled: enabled && rig !== NO_RIG, placeholderData: keepPreviousData, refetchInterval: 20_000 },
  );

export const useRun = (rig: number) =>
  asked.useQuery("get", "/api/rigs/{rig_id}/run", ofRig(rig), {
    enabled: rig !== NO_RIG,
    refetchInterval: (query) => often(query.state.data?.run?.job.can_stop, 10_000),
  });

export type BenchKind = "offset" | "gain";

export const useBench = (rig: number, kind: BenchKind) =>
  asked.useQuery(
    "get",
    "/api/rigs/{rig_id}/bench/{kind}",
    { params: { path: { rig_id: rig, kind } } },
    { enabled: rig !== NO_RIG, refetchInterval: whileDeaf(4000) },
  );

const ofMeasurement = (id: number) => ({ params: { path: { measurement_id: id } } });

export const useMeasurement = (id: number | null) =>
  asked.useQuery("get", "/api/measurements/{measurement_id}", ofMeasurement(id ?? 0), {
    enabled: id !== null,
    refetchInterval: (query) => often(query.state.data?.job?.can_stop, false),
    placeholderData: keepPreviousData,
  });

/** A measurement that is gone is asked for no more. */
export function useForgetMeasurement() {
  const client = useQueryClient();
  return async (id: number) => {
    const { queryKey } = asked.queryOptions("get", "/api/measurements/{measurement_id}", ofMeasurement(id));
    client.removeQueries({ queryKey });
    await client.invalidateQueries();
  };
}

export const useFlats = (rig: number) =>
  asked.useQuery("get", "/api/rigs/{rig_id}/flats", ofRig(rig), {
    enabled: rig !== NO_RIG,
    refetchInterval: (query) => often(query.state.data?.job?.can_stop, 10_000),
  });

export const useFlatChart = (rig: number, key: Schemas["FlatKeyIn"] | null) =>
  asked.useQuery(
    "post",
    "/api/rigs/{rig_id}/flats/chart",
    { ...ofRig(rig), body: key as Schemas["FlatKeyIn"] },
    { enabled: key !== null, placeholderData: keepPreviousData },
  );

export type TwilightChoice = Partial<Schemas["TwilightIn"]>;

export const useTwilight = (rig: number, choice: TwilightChoice) =>
  asked.useQuery(
    "post",
    "/api/rigs/{rig_id}/twilight",
    { ...ofRig(rig), body: { at: null, day: null, rows: null, ...choice } },
    {
      enabled: rig !== NO_RIG,
      refetchInterval: (query) => often(query.state.data?.job?.can_stop, 20_000),
      placeholderData: keepPreviousData,
    },
  );

export const useIntake = () =>
  asked.useQuery("get", "/api/intake", {}, { refetchInterval: whileDeaf(3000) }) as UseQueryResult<
    Schemas["IntakeOut"],
    Problem
  >;

export const useMend = () =>
  asked.useQuery("get", "/api/mend", {}) as UseQueryResult<Schemas["MendOut"], Problem>;

export const useMendPreview = (body: Schemas["MendIn"]) =>
  asked.useQuery("post", "/api/mend/preview", { body }, { placeholderData: keepPreviousData });

export const useFiling = () =>
  asked.useQuery("get", "/api/filing", {}) as UseQueryResult<Schemas["FilingOut"], Problem>;

export const useFilingPreview = (body: Schemas["FilingIn"]) =>
  asked.useQuery("post", "/api/filing/preview", { body }, { placeholderData: keepPreviousData });

export const useRoom = () =>
  asked.useQuery("get", "/api/room", {}) as UseQueryResult<Schemas["RoomOut"], Problem>;

export const useRoomPreview = (body: Schemas["LetGoIn"]) =>
  asked.useQuery(
    "post",
    "/api/room/preview",
    { body },
    { enabled: body.set_ids.length > 0, placeholderData: keepPreviousData },
  );

export const useSets = (page: number, kind: string) =>
  asked.useQuery(
    "get",
    "/api/sets",
    { params: { query: { page, kind } } },
    { placeholderData: keepPreviousData },
  );

export const useProblems = (page: number, state: string) =>
  asked.useQuery(
    "get",
    "/api/problems",
    { params: { query: { page, state } } },
    { placeholderData: keepPreviousData },
  );

export const useSearch = (q: string) =>
  asked.useQuery(
    "get",
    "/api/search",
    { params: { query: { q } } },
    { enabled: q.trim().length > 1, placeholderData: keepPreviousData },
  );

/**
 * A change; everything on the page is asked for anew afterwards. `then` is done once it succeeded, also where what
 * it began took the form away that asked for it, which what is given to `mutate` is not.
 */
export function useChange<Input, Output>(
  change: (input: Input) => Promise<Output>,
  then?: (output: Output, input: Input) => void,
) {
  const client = useQueryClient();
  return useMutation<Output, Problem, Input>({
    mutationFn: change,
    onSuccess: (output, input) => then?.(output, input),
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

const FLATS: (keyof paths)[] = ["/api/rigs/{rig_id}/flats", "/api/rigs/{rig_id}/flats/chart"];
const MEASURED: (keyof paths)[] = ["/api/measurements/{measurement_id}"];
const TWILIGHT: (keyof paths)[] = ["/api/rigs/{rig_id}/twilight"];
const RUN: (keyof paths)[] = ["/api/rigs/{rig_id}/run"];

/** What is asked for anew by what an event is about. */
const ABOUT: Record<string, (keyof paths)[]> = {
  run: RUN,
  state: ["/api/state"],
  bench: ["/api/rigs/{rig_id}/bench/{kind}", ...MEASURED],
  twilight: TWILIGHT,
  rig: ["/api/rigs/{rig_id}", "/api/rigs/proposal"],
  flats: FLATS,
  job: ["/api/jobs", "/api/intake", "/api/filing", ...RUN, ...MEASURED, ...FLATS, ...TWILIGHT],
};

/** Listen for events and ask anew for what they are about; where there is no event, asking on a timer does. */
export function useEvents() {
  const client = useQueryClient();
  useEffect(() => {
    let waiting: number | undefined;
    const told = new Set<string>();
    const isTold = (query: Pick<Query, "queryKey">) => told.has(String(query.queryKey[1]));
    const flush = () => {
      // What is being fetched is left to come: else, where events come faster than answers, none ever would.
      if (client.isFetching({ predicate: isTold }) > 0) {
        waiting = window.setTimeout(flush, 150);
        return;
      }
      waiting = undefined;
      void client.invalidateQueries({ predicate: isTold });
      told.clear();
    };
    const stop = listenTogether(thisBrowser(), {
      onListening: (now) => {
        listening = now;
      },
      onMissed: () => void client.invalidateQueries(),
      onEvent: (event) => {
        for (const path of ABOUT[event.type] ?? []) told.add(path);
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
