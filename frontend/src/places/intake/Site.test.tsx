// @vitest-environment jsdom
import { QueryClient, QueryClientProvider, useMutation } from "@tanstack/react-query";
import { act, cleanup, fireEvent, render, screen } from "@testing-library/react";
import { afterEach, expect, it, vi } from "vitest";

import type { Schemas } from "../../api/client";
import { Site } from "./Site";

const { put } = vi.hoisted(() => ({ put: vi.fn() }));
vi.mock("../../api/client", () => ({ api: { PUT: put }, get: (answer: unknown) => answer }));
vi.mock("../../api/hooks", () => ({
  useChange: (change: (body: unknown) => Promise<unknown>) => useMutation({ mutationFn: change }),
}));
afterEach(cleanup);

const before = {
  site: "My site",
  time_zone: "UTC",
  latitude: null,
  longitude: null,
  zones: [],
  place_told: { latitude: -17, longitude: 179.9, text: "Headers say 17° S, 179.9° E." },
} as unknown as Schemas["IntakeOut"];

it("takes what headers tell, and says what came of what was kept", async () => {
  put.mockResolvedValue({ message: "Nights are counted at Pacific/Fiji." });
  const page = (data: Schemas["IntakeOut"]) => (
    <QueryClientProvider client={new QueryClient()}>
      <Site data={data} />
    </QueryClientProvider>
  );
  const { rerender } = render(page(before));
  expect(screen.queryByText("Keep the site")).toBeNull();
  fireEvent.click(screen.getByText("Take it as the site’s"));
  expect(screen.getByText("Keep the site")).toBeTruthy();
  fireEvent.change(screen.getByLabelText("Time zone"), { target: { value: "Pacific/Fiji" } });
  await act(() => Promise.resolve(fireEvent.click(screen.getByText("Count nights by this clock"))));
  const kept = { name: "My site", time_zone: "Pacific/Fiji", latitude: -17, longitude: 179.9 };
  expect(put).toHaveBeenCalledWith("/api/site", { body: { ...kept, latitude: "-17", longitude: "179.9" } });
  rerender(page({ ...before, ...kept, place_told: null }));
  expect((await screen.findByRole("status")).textContent).toBe("Nights are counted at Pacific/Fiji.");
});
