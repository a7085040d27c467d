import { expect, it } from "vitest";

import { noNumber, numberOf } from "./typedNumber";

it("reads numbers as people write them", () => {
  expect(["0,5", " −10.5 ", "-3", "120"].map(numberOf)).toEqual([0.5, -10.5, -3, 120]);
  expect(["", " ", "cold", "1,2,3"].map(numberOf)).toEqual([NaN, NaN, NaN, NaN]);
  expect(["", " ", "0,5", "cold", "1e999"].map(noNumber)).toEqual([false, false, false, true, true]);
});
