// @vitest-environment jsdom
import { act, cleanup, renderHook } from "@testing-library/react";
import type { ReactNode } from "react";
import { MemoryRouter, useLocation, useNavigate } from "react-router";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";

/** The hook as after a load of the page, at an address. */
async function load(address: string) {
  vi.resetModules();
  const { useRigInHand } = await import("./useRigInHand");
  const at = ({ children }: { children: ReactNode }) => (
    <MemoryRouter initialEntries={[address]}>{children}</MemoryRouter>
  );
  const rigs = [1, 2, 3, 4];
  const { result, rerender } = renderHook(
    () => {
      const [rig, take] = useRigInHand([...rigs]);
      const { pathname, search } = useLocation();
      return { rig, take, go: useNavigate(), address: pathname + search };
    },
    { wrapper: at },
  );
  return {
    now: () => [result.current.rig, result.current.address],
    take: (rig: number, to?: string) => act(() => result.current.take(rig, to)),
    made: (rig: number) => {
      rigs.push(rig);
      rerender();
    },
    go: (to: string | number) => act(() => void result.current.go(to as string)),
  };
}

beforeEach(() => {
  localStorage.clear();
  sessionStorage.clear();
});
afterEach(cleanup);

describe("the rig in hand", () => {
  it("goes along to other addresses, and back and forward show what they showed", async () => {
    const page = await load("/shelf?pull=1");
    page.go("/nights");
    page.take(2, "/nights/2026-11-19");
    expect(page.now()).toEqual([2, "/nights/2026-11-19"]);
    page.go(-1);
    expect(page.now()).toEqual([1, "/nights"]);
    page.go(1);
    expect(page.now()).toEqual([2, "/nights/2026-11-19"]);
    page.go("/bench");
    expect(page.now()).toEqual([2, "/bench"]);
    page.go(-3);
    expect(page.now()).toEqual([1, "/shelf?pull=1"]);
    page.go("/tonight");
    expect(page.now()).toEqual([1, "/tonight"]);
  });

  it("is the one that an address names, until another is taken there", async () => {
    const page = await load("/nights/2026-11-19?set=9&rig=2");
    expect(page.now()[0]).toBe(2);
    page.take(3);
    expect(page.now()).toEqual([3, "/nights/2026-11-19?set=9"]);
  });

  it("is one that was just made, as soon as it is among them", async () => {
    const page = await load("/rigs");
    page.take(5);
    expect(page.now()).toEqual([1, "/rigs"]);
    page.made(5);
    expect(page.now()).toEqual([5, "/rigs"]);
  });

  it("is the last one in a new tab", async () => {
    (await load("/tonight")).take(4);
    cleanup();
    sessionStorage.clear();
    expect((await load("/shelf")).now()).toEqual([4, "/shelf"]);
  });
});
