import { expect, it } from "vitest";
import {
  firstTokens,
  percentiles,
  queueEachSecond,
  SHARES,
  tokensEachSecond,
  type Run,
} from "./run";

const run = {
  seconds: 2.5,
  requests: [
    { due: 0.5, first_token: 0.75, ended: 1.5, gaps_us: [200_000, 500_000] },
    { due: 1, first_token: null, ended: 1.1, gaps_us: [] },
  ],
  samples: [
    { at: 0.2, running: 1, service: { queue_depth: 3 } },
    { at: 0.7, running: 1, service: { queue_depth: 5 } },
    { at: 2.6, running: 1, service: null },
  ],
} as unknown as Run;

it("draws percentiles as values that occurred, in milliseconds", () => {
  const curve = percentiles([0.3, 0.1, 0.2]);
  const at = (share: number) => curve[SHARES.indexOf(share)];
  expect([at(0), at(33), at(50), at(100)]).toEqual([100, 100, 200, 300]);
  expect(percentiles([])[7]).toBeNull();
});

it("leaves out requests without a token and counts tokens in their second", () => {
  expect(firstTokens(run)).toEqual([0.25]);
  expect(tokensEachSecond(run)).toEqual([2, 1, 0]);
});

it("keeps the deepest queue of each second", () => {
  expect(queueEachSecond(run)).toEqual([5, null, null]);
});
