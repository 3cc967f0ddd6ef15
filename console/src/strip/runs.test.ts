import { expect, test } from "vitest";
import type { Step } from "../api/types";
import { firstAfter, laneRuns, laneUse } from "./runs";

function step(number: number, at: number, lanes: [number, number, string][]): Step {
  return {
    number,
    at,
    duration: 0.01,
    lanes: lanes.map(([lane, sequence, kind]) => ({ lane, sequence, kind, tokens: 1, reused: 0 })),
    admitted: [],
    preempted: [],
    waiting: 0,
    pages_used: 0,
  };
}

const STEPS = [
  step(1, 0.0, [[0, 7, "prefill"]]),
  step(2, 0.01, [
    [0, 7, "decode"],
    [1, 8, "prefill"],
  ]),
  step(3, 0.02, [
    [0, 7, "decode"],
    [1, 8, "decode"],
  ]),
  step(4, 0.5, [[0, 9, "decode"]]),
];

test("steps in a row are one run, and another sequence, kind or a pause begins a new one", () => {
  const runs = laneRuns(STEPS, 0, 1);
  expect(runs.map(({ lane, sequence, kind, steps }) => [lane, sequence, kind, steps])).toEqual([
    [0, 7, "prefill", 1],
    [0, 7, "decode", 2],
    [1, 8, "prefill", 1],
    [1, 8, "decode", 1],
    [0, 9, "decode", 1],
  ]);
  expect(laneRuns(STEPS, 0.04, 0.4)).toEqual([]);
});

test("the first step after a moment is found, and none after the last", () => {
  expect(firstAfter(STEPS, 0.015)).toBe(1);
  expect(firstAfter(STEPS, 0.3)).toBe(3);
  expect(firstAfter(STEPS, 9)).toBe(4);
});

test("the use of lanes is the share of their time", () => {
  expect(laneUse(laneRuns(STEPS, 0, 0.03), 2, 0, 0.03)).toBeCloseTo(5 / 6);
});
