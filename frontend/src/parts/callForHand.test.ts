import { afterEach, beforeEach, expect, test, vi } from "vitest";

import { AGAIN_MS, callFor } from "./callForHand";

beforeEach(() => void vi.useFakeTimers());
afterEach(() => void vi.useRealTimers());

const page = () => ({ title: vi.fn(), sound: vi.fn(), note: vi.fn() });

test("it calls at once and again each minute until it is answered", () => {
  const call = page();
  const answered = callFor("Put the cap on.", call);
  expect(call.title).toHaveBeenLastCalledWith("Put the cap on.");
  expect(call.note).toHaveBeenCalledWith("Put the cap on.");
  vi.advanceTimersByTime(3 * AGAIN_MS);
  expect(call.sound).toHaveBeenCalledTimes(4);
  answered();
  vi.advanceTimersByTime(3 * AGAIN_MS);
  expect(call.sound).toHaveBeenCalledTimes(4);
  expect(call.title).toHaveBeenLastCalledWith("");
});

test("where nothing waits it is silent", () => {
  const call = page();
  callFor("", call)();
  vi.advanceTimersByTime(3 * AGAIN_MS);
  expect(call.sound).not.toHaveBeenCalled();
  expect(call.note).not.toHaveBeenCalled();
});
