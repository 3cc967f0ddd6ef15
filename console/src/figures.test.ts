import { expect, test } from "vitest";
import { duration, grouped, milliseconds } from "./figures";

test("figures carry their units", () => {
  expect(grouped(2262720)).toBe("2,262,720");
  expect([59, 61, 3725].map(duration)).toEqual(["59 s", "1 min 1 s", "1 h 2 min"]);
  expect([0.00264, 0.0398].map(milliseconds)).toEqual(["2.6 ms", "40 ms"]);
});
