import type { CallDetail } from "../api/types";

/** A stretch of a request's life, in seconds from its arrival. */
export interface Part {
  kind: "start" | "waiting" | "prefill" | "tokens" | "pause";
  from: number;
  to: number;
}

/** A gap that is so many times the median, and at least so many seconds, is a pause. */
const PAUSE = { times: 8, least: 0.02 };

/** Returns what a request did when, in order and without gaps. */
export function timelineParts({ call, gaps }: CallDetail): Part[] {
  const parts: Part[] = [];
  const add = (kind: Part["kind"], from: number, to: number) => {
    const last = parts.at(-1);
    if (to <= from) return;
    if (last?.kind === kind) last.to = to;
    else parts.push({ kind, from, to });
  };
  const first = call.output_tokens > 0 ? call.ttft : call.total;
  const started = Math.min(call.waiting_for_start ?? 0, first);
  const admitted = Math.min(started + call.queued, first);
  add("start", 0, started);
  add("waiting", started, admitted);
  if (call.prefill > 0 || call.output_tokens > 0) add("prefill", admitted, first);
  let at = first;
  for (const gap of gaps) {
    const pause = gap >= PAUSE.least && gap >= PAUSE.times * call.itl_p50;
    add(pause ? "pause" : "tokens", at, at + gap);
    at += gap;
  }
  return parts;
}
