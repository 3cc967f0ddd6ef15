import type { Track } from "../api/history";
import type { EndpointHistory } from "../api/types";

type Point = { [K in keyof Track]: Track[K][number] | null };

const NAMES = [
  "at",
  "queue",
  "lanes",
  "pages",
  "outRate",
  "inRate",
  "busy",
  "ttft50",
  "ttft95",
  "ttft99",
  "itl50",
  "itl95",
  "itl99",
] as const;

/** A point without any value, where nothing was heard. */
function hole(at: number): Point {
  const point = Object.fromEntries(NAMES.map((name) => [name, null])) as Point;
  return { ...point, at };
}

/** Returns what was kept before the page was opened, followed by what the page has heard; times without either stay empty. */
export function joined(kept: EndpointHistory | null, heard: Track): Track {
  const first = heard.at[0] ?? Infinity;
  const points: Point[] = [];
  const ms = (spread: number[] | null | undefined, index: number) =>
    spread ? spread[index]! * 1000 : null;
  let before: number | undefined;
  for (const point of kept?.points ?? []) {
    // What a stretch was like is known at its end.
    const at = point.at_ms / 1000 + kept!.span;
    if (at >= first) break;
    // Within one stretch a replica may have ended and another begun.
    if (at === before) points.pop();
    if (before !== undefined && at - before > 1.5 * kept!.span) points.push(hole(before + 0.1));
    before = at;
    points.push({
      at,
      queue: point.queue_depth,
      lanes: point.lanes_used,
      pages: point.pages_used,
      outRate: point.output_rate,
      inRate: point.prefill_rate,
      busy: point.busy_share * 100,
      ttft50: ms(point.ttft, 0),
      ttft95: ms(point.ttft, 1),
      ttft99: ms(point.ttft, 2),
      itl50: ms(point.itl, 0),
      itl95: ms(point.itl, 1),
      itl99: ms(point.itl, 2),
    });
  }
  if (before !== undefined && Number.isFinite(first) && first - before > 2 * kept!.span)
    points.push(hole(before + 0.1));
  const track = {} as Record<(typeof NAMES)[number], (number | null)[]>;
  for (const name of NAMES) track[name] = [...points.map((point) => point[name]), ...heard[name]];
  return track as unknown as Track;
}
