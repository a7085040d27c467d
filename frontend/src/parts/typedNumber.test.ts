import { expect, it } from "vitest";

import { noNumber, numberOf } from "./typedNumber";

it("reads numbers as people write them", () => {
  expect(["0,5", " −10.5 ", "-3", "120"].map(numberOf)).toEqual([0.5, -10.5, -3, 120]);
  // What is copied from a page is what the page said; a nought before the comma is no thousand.
  expect(["29,491", "−1,234.5", "1,048,576", "0,645", "2,5"].map(numberOf)).toEqual([
    29491, -1234.5, 1048576, 0.645, 2.5,
  ]);
  expect(["", " ", "cold", "1,2,3"].map(numberOf)).toEqual([NaN, NaN, NaN, NaN]);
  expect(["", " ", "0,5", "cold", "1e999"].map(noNumber)).toEqual([false, false, false, true, true]);
});
