// @vitest-environment jsdom
import { cleanup, fireEvent, render, screen } from "@testing-library/react";
import { useState } from "react";
import { afterEach, expect, it } from "vitest";

import { NumberField } from "./NumberField";

afterEach(cleanup);

const kept: (number | null)[] = [];

function Sheet() {
  const [mm, setMm] = useState<number | null>(480);
  kept.push(mm);
  return <NumberField aria-label="mm" value={mm} onChange={setMm} />;
}

it("takes a number with a comma, and no word for one", () => {
  render(<Sheet />);
  const box = screen.getByLabelText<HTMLInputElement>("mm");
  const type = (value: string) => fireEvent.change(box, { target: { value } });
  type("480,");
  type("480,5");
  expect(kept.at(-1)).toBe(480.5);
  type("wide");
  expect([kept.at(-1), box.getAttribute("aria-invalid")]).toEqual([480.5, "true"]);
  fireEvent.blur(box);
  expect([box.value, box.getAttribute("aria-invalid")]).toEqual(["480.5", "false"]);
  type("");
  expect(kept.at(-1)).toBeNull();
});
