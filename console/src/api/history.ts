import { Busy } from "./busy";
import type { EndpointStatus, ServiceStatus } from "./types";

/** What is drawn over time of one endpoint. */
export interface Track {
  /** Seconds since 1970. */
  at: number[];
  queue: number[];
  lanes: number[];
  pages: number[];
  outRate: number[];
  inRate: number[];
  /** Per cent of the time in steps; null until there is something to compare. */
  busy: (number | null)[];
  /** Milliseconds; null where there were none. */
  ttft50: (number | null)[];
  ttft95: (number | null)[];
  ttft99: (number | null)[];
  itl50: (number | null)[];
  itl95: (number | null)[];
  itl99: (number | null)[];
}

/** Points that are kept: ten minutes at four a second. */
const MOST = 2400;

function empty(): Track {
  return {
    at: [],
    queue: [],
    lanes: [],
    pages: [],
    outRate: [],
    inRate: [],
    busy: [],
    ttft50: [],
    ttft95: [],
    ttft99: [],
    itl50: [],
    itl95: [],
    itl99: [],
  };
}

/** The last minutes of each endpoint, as this page has heard them. */
export class History {
  /** How busy each replica was over the last seconds. */
  readonly busy = new Busy();
  private readonly tracks = new Map<string, Track>();

  /** The track of an endpoint; empty when nothing was heard of it. */
  of(endpoint: string): Track {
    return this.tracks.get(endpoint) ?? empty();
  }

  /** The share of the last seconds in which an endpoint's replicas were in steps. */
  private share({ replicas }: EndpointStatus): number | null {
    const shares = replicas.map(({ incarnation }) => this.busy.share(incarnation));
    const known = shares.filter((share) => share !== null);
    return known.length > 0 ? known.reduce((sum, share) => sum + share, 0) / known.length : null;
  }

  push(status: ServiceStatus, now = Date.now() / 1000): void {
    this.busy.push(status);
    for (const endpoint of status.endpoints) {
      const track = this.tracks.get(endpoint.name) ?? empty();
      this.tracks.set(endpoint.name, track);
      const { ttft, itl } = endpoint.window;
      const share = this.share(endpoint);
      const ms = (count: number, seconds: number) => (count > 0 ? seconds * 1000 : null);
      const point: { [K in keyof Track]: Track[K][number] } = {
        at: now,
        queue: endpoint.occupancy.queue_depth,
        lanes: endpoint.occupancy.lanes_used,
        pages: endpoint.occupancy.pages_used,
        outRate: endpoint.window.output_rate,
        inRate: endpoint.window.prefill_rate,
        busy: share === null ? null : share * 100,
        ttft50: ms(ttft.count, ttft.p50),
        ttft95: ms(ttft.count, ttft.p95),
        ttft99: ms(ttft.count, ttft.p99),
        itl50: ms(itl.count, itl.p50),
        itl95: ms(itl.count, itl.p95),
        itl99: ms(itl.count, itl.p99),
      };
      for (const name of Object.keys(point) as (keyof Track)[]) {
        const values = track[name] as (number | null)[];
        values.push(point[name]);
        if (values.length > MOST) values.shift();
      }
    }
  }
}
