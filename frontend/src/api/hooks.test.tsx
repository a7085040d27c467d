// @vitest-environment jsdom
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { cleanup, renderHook, waitFor } from "@testing-library/react";
import type { ReactNode } from "react";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";

import { api, get, Problem } from "./client";
import { listenTogether } from "./events";
import { useAppState, useChange, useEvents, useFlats, useJobs, useNights, useRun } from "./hooks";

vi.mock("./events", () => ({ listenTogether: vi.fn(() => () => undefined), thisBrowser: () => ({}) }));

// A page's addresses begin at the page; Node's requests want all of them, and know no signals of another window.
// The client takes both when it is loaded.
const net = vi.hoisted(() => {
  const Whole = globalThis.Request;
  globalThis.Request = class extends Whole {
    constructor(input: RequestInfo | URL, init?: RequestInit) {
      super(typeof input === "string" ? new URL(input, "http://localhost") : input, {
        ...init,
        signal: null,
      });
    }
  };
  const net = { fetch: (request: Request): Promise<Response> => Promise.reject(new Error(request.url)) };
  globalThis.fetch = (request) => net.fetch(request as Request);
  return net;
});

const asked: string[] = [];
let answer: (path: string) => Response;

const ok = (body: unknown) =>
  new Response(JSON.stringify(body), { headers: { "Content-Type": "application/json" } });
const times = (path: string) => asked.filter((a) => a === path).length;

beforeEach(() => {
  asked.length = 0;
  answer = () => ok({ alive: [], ended: [] });
  net.fetch = (request) => {
    const path = new URL(request.url).pathname;
    asked.push(path);
    return Promise.resolve(answer(path));
  };
});

afterEach(() => {
  cleanup();
  vi.clearAllMocks();
});

function within() {
  const client = new QueryClient({ defaultOptions: { queries: { retry: false, staleTime: 60_000 } } });
  const Provider = ({ children }: { children: ReactNode }) => (
    <QueryClientProvider client={client}>{children}</QueryClientProvider>
  );
  return { wrapper: Provider };
}

/** What the page was given to hear events by. */
const heard = () => {
  const call = vi.mocked(listenTogether).mock.calls.at(-1);
  if (!call) throw new Error("Nobody listens.");
  return call[1];
};

describe("events", () => {
  const usePage = () => {
    useEvents();
    return [useAppState(), useJobs(), useRun(1), useNights(1), useFlats(1)].every((q) => q.isSuccess);
  };
  const PATHS = ["state", "jobs", "rigs/1/run", "rigs/1/nights", "rigs/1/flats"].map((p) => `/api/${p}`);

  it.each([
    ["state", ["/api/state"]],
    ["run", ["/api/rigs/1/run"]],
    ["flats", ["/api/rigs/1/flats"]],
    ["job", ["/api/jobs", "/api/rigs/1/run", "/api/rigs/1/flats"]],
    ["of another kind", []],
  ])("one about '%s' asks for what it is about and for nothing else", async (type, anew) => {
    const { result } = renderHook(usePage, within());
    await waitFor(() => expect(result.current).toBe(true));
    heard().onEvent({ type });
    heard().onEvent({ type });
    await new Promise((done) => setTimeout(done, 500));
    for (const path of PATHS) expect([path, times(path)]).toEqual([path, anew.includes(path) ? 2 : 1]);
  });

  it("after some were missed everything is asked for", async () => {
    const { result } = renderHook(usePage, within());
    await waitFor(() => expect(result.current).toBe(true));
    heard().onMissed();
    await waitFor(() => expect(PATHS.map(times)).toEqual([2, 2, 2, 2, 2]));
  });
});

describe("a change", () => {
  it("asks for everything anew, also where it failed, and tells why in the server's words", async () => {
    const useBoth = () => ({
      jobs: useJobs(),
      stop: useChange(() => get(api.POST("/api/builds", { body: { set_ids: [1] } }))),
    });
    const { result } = renderHook(useBoth, within());
    await waitFor(() => expect(result.current.jobs.isSuccess).toBe(true));
    const told = { title: "Conflict", detail: "It is being built already.", advice: "Wait for it." };
    answer = (path) =>
      path === "/api/builds"
        ? new Response(JSON.stringify(told), { status: 409 })
        : ok({ alive: [], ended: [] });
    result.current.stop.mutate(undefined);
    await waitFor(() => expect(result.current.stop.error).toBeInstanceOf(Problem));
    expect(result.current.stop.error).toMatchObject(told);
    await waitFor(() => expect(times("/api/jobs")).toBe(2));
  });
});

describe("what follows on a change", () => {
  it("is done where the change itself took the form away that asked for it", async () => {
    const then = vi.fn();
    const useForm = () => useChange(() => get(api.POST("/api/builds", { body: { set_ids: [1] } })), then);
    const { result, unmount } = renderHook(useForm, within());
    result.current.mutate(undefined);
    unmount();
    await waitFor(() => expect(then).toHaveBeenCalledOnce());
  });
});

describe("a page that gets no answer", () => {
  it("says so where the server is away", async () => {
    net.fetch = () => Promise.reject(new TypeError("Failed to fetch"));
    const { result } = renderHook(() => useAppState(), within());
    await waitFor(() => expect(result.current.error).toMatchObject({ title: "No answer" }));
  });

  it("tells the number where the answer is no problem of ours", async () => {
    answer = () => new Response("<html>", { status: 502 });
    const { result } = renderHook(() => useAppState(), within());
    await waitFor(() => expect(result.current.error).toMatchObject({ detail: "The answer was 502." }));
  });

  it("asks nothing of a rig where there is none", async () => {
    renderHook(() => useNights(0), within());
    await new Promise((done) => setTimeout(done, 50));
    expect(asked).toEqual([]);
  });
});
