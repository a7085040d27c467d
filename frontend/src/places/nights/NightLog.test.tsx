// @vitest-environment jsdom
import { QueryClient, QueryClientProvider, useMutation } from "@tanstack/react-query";
import { act, cleanup, fireEvent, render, screen } from "@testing-library/react";
import { afterEach, expect, it, vi } from "vitest";

import type { Schemas } from "../../api/client";
import { PartOrJoin } from "./NightLog";

const { post } = vi.hoisted(() => ({ post: vi.fn() }));
vi.mock("../../api/client", () => ({ api: { POST: post }, get: (answer: unknown) => answer }));
vi.mock("../../api/hooks", () => ({
  useChange: (change: (body: unknown) => Promise<unknown>, done?: () => void) =>
    useMutation({ mutationFn: change, onSuccess: done }),
}));
afterEach(cleanup);

it("opens the night into which another was joined; one that was parted stays open", async () => {
  post.mockResolvedValue({ message: "8 frames belong to 12 Sep." });
  const gone = vi.fn();
  const night = { night: "2026-09-13", taken: 8 } as unknown as Schemas["NightOut"];
  render(
    <QueryClientProvider client={new QueryClient()}>
      <PartOrJoin night={night} rig={1} moved={false} onGone={gone} />
    </QueryClientProvider>,
  );
  const press = (button: string) => act(() => Promise.resolve(fireEvent.click(screen.getByText(button))));
  fireEvent.change(screen.getByLabelText(/^From which time/), { target: { value: "1:30" } });
  await press("Part it");
  expect(gone).not.toHaveBeenCalled();
  fireEvent.change(screen.getByLabelText(/^From which time/), { target: { value: "" } });
  fireEvent.change(screen.getByLabelText("The night that it belongs to"), {
    target: { value: "2026-09-12" },
  });
  await press("Join it");
  await vi.waitFor(() => expect(gone).toHaveBeenCalledWith("2026-09-12"));
});
