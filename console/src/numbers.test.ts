import { expect, test } from "vitest";
import { duration, grouped, timing } from "./numbers";

test("figures carry their units", () => {
  expect(grouped(2262720)).toBe("2,262,720");
  expect([59, 61, 3725].map(duration)).toEqual(["59 s", "1 min 1 s", "1 h 2 min"]);
  expect([0.00264, 0.0398].map(timing)).toEqual(["2.6 ms", "40 ms"]);
});

test("says timings in the unit that suits them", () => {
  expect([0.00125, 0.0424, 0.9996, 8.043, 120].map(timing)).toEqual([
    "1.3 ms",
    "42 ms",
    "1.00 s",
    "8.04 s",
    "120 s",
  ]);
});
