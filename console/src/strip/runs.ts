import type { Step } from "../api/types";

/** Steps in a row in which one lane did the same for the same sequence. */
export interface LaneRun {
  lane: number;
  sequence: number;
  kind: string;
  from: number;
  to: number;
  tokens: number;
  steps: number;
  /** Tokens found in the cache when it came in; 0 when it came in before. */
  reused: number;
}

/** The latest gap between two steps, in seconds, over which a lane still counts as busy. */
export const PAUSE = 0.05;

/** Returns what each lane did between two moments, as runs in the order of their beginnings. */
export function laneRuns(steps: Step[], from: number, to: number): LaneRun[] {
  const runs: LaneRun[] = [];
  const open = new Map<number, LaneRun>();
  for (const step of steps.slice(firstAfter(steps, from))) {
    if (step.at > to) break;
    const end = step.at + step.duration;
    for (const part of step.lanes) {
      const run = open.get(part.lane);
      if (
        run &&
        run.sequence === part.sequence &&
        run.kind === part.kind &&
        step.at - run.to < PAUSE
      ) {
        run.to = end;
        run.tokens += part.tokens;
        run.steps += 1;
        continue;
      }
      const begun: LaneRun = {
        lane: part.lane,
        sequence: part.sequence,
        kind: part.kind,
        from: step.at,
        to: end,
        tokens: part.tokens,
        steps: 1,
        reused: part.reused,
      };
      open.set(part.lane, begun);
      runs.push(begun);
    }
  }
  return runs;
}

/** Returns the index of the first step that ends after a moment: steps are in order of time. */
export function firstAfter(steps: Step[], moment: number): number {
  let low = 0;
  let high = steps.length;
  while (low < high) {
    const middle = (low + high) >> 1;
    const step = steps[middle]!;
    if (step.at + step.duration < moment) low = middle + 1;
    else high = middle;
  }
  return low;
}

/** Returns how many sequences lost their place between two moments. */
export function preemptions(steps: Step[], from: number, to: number): number {
  let count = 0;
  for (const step of steps.slice(firstAfter(steps, from))) {
    if (step.at > to) break;
    count += step.preempted.length;
  }
  return count;
}

/** Returns the share of lane time in use between two moments. */
export function laneUse(runs: LaneRun[], width: number, from: number, to: number): number {
  const used = runs.reduce(
    (sum, run) => sum + Math.max(0, Math.min(run.to, to) - Math.max(run.from, from)),
    0,
  );
  return used / Math.max(1e-9, width * (to - from));
}
