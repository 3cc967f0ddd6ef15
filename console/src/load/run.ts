import type { EndpointStatus, Spread } from "../api/types";

/** A load test as it is kept; durations in seconds. */
export interface Run {
  id: string;
  name: string;
  begun_ms: number;
  seconds: number;
  stopped_early: boolean;
  workload: {
    model: string;
    prompts: string;
    arrival: { kind: string; users?: number | number[]; rate?: number; seconds?: number };
    span: { seconds?: number; requests?: number };
    warm_up: number;
    output: string | null;
    force_length: boolean;
    temperature: number;
    seed: number;
    pace: number;
  };
  setup: { url: string; generator_cores: number; before: EndpointStatus | null };
  summary: Summary;
  /** Left out of lists. */
  requests?: { due: number; first_token: number | null; ended: number; gaps_us: number[] }[];
  /** Left out of lists. */
  samples?: { at: number; running: number; service: { queue_depth: number } | null }[];
}

/** What came out of a run. */
export interface Summary {
  sent: number;
  done: number;
  errors: Record<string, number>;
  ttft: Spread;
  itl: Spread;
  total: Spread;
  request_rate: number;
  input_rate: number;
  output_rate: number;
  user_rate: Spread;
  reused_share: number;
  kept_pace: number;
  deepest_queue: number | null;
  lanes_share: number | null;
  pages_share: number | null;
  preemptions: number | null;
  busy_share: number | null;
  limit_reason: string;
}

/** One of a list of runs. */
export interface RunEntry {
  id: string;
  at_ms: number;
  run: Run;
}

/** How a load arrives, in a few words. */
export function arrivalWords({ workload }: Run): string {
  const { arrival } = workload;
  if (arrival.kind === "poisson") return `Poisson, ${arrival.rate} requests/s`;
  if (arrival.kind === "steps") return `steps of ${[arrival.users].flat().join(", ")} users`;
  return arrival.users === 1 ? "1 user" : `${String(arrival.users)} users`;
}

/** Shares of all values, in percent, at which curves of percentiles are drawn. */
export const SHARES = Array.from({ length: 201 }, (_, index) => index / 2);

/** Returns the value that each share of all values does not exceed, in milliseconds; nothing where there are no values. */
export function percentiles(seconds: number[]): (number | null)[] {
  if (seconds.length === 0) return SHARES.map(() => null);
  const sorted = [...seconds].sort((a, b) => a - b);
  const last = sorted.length - 1;
  return SHARES.map((share) => {
    const place = Math.min(last, Math.max(0, Math.ceil((share / 100) * sorted.length) - 1));
    return sorted[place]! * 1000;
  });
}

/** Times to first token of a run's requests, in seconds. */
export function firstTokens(run: Run): number[] {
  return (run.requests ?? []).flatMap(({ due, first_token }) =>
    first_token === null ? [] : [first_token - due],
  );
}

/** All gaps between tokens of a run, in seconds. */
export function gaps(run: Run): number[] {
  return (run.requests ?? []).flatMap(({ gaps_us }) => gaps_us.map((gap) => gap / 1e6));
}

/** Returns the tokens that came in each second of a run. */
export function tokensEachSecond(run: Run): number[] {
  const counts = new Array<number>(Math.max(1, Math.ceil(run.seconds))).fill(0);
  const count = (at: number) => {
    const second = Math.floor(at);
    if (second >= 0 && second < counts.length) counts[second]! += 1;
  };
  for (const { first_token, gaps_us } of run.requests ?? []) {
    if (first_token === null) continue;
    let at = first_token;
    count(at);
    for (const gap of gaps_us) {
      at += gap / 1e6;
      count(at);
    }
  }
  return counts;
}

/** Returns the deepest queue seen in each second of a run; nothing where the service did not tell. */
export function queueEachSecond(run: Run): (number | null)[] {
  const depths = new Array<number | null>(Math.max(1, Math.ceil(run.seconds))).fill(null);
  for (const { at, service } of run.samples ?? []) {
    const second = Math.floor(at);
    if (service && second < depths.length) {
      depths[second] = Math.max(depths[second] ?? 0, service.queue_depth);
    }
  }
  return depths;
}
