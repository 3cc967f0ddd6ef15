import type { ServiceStatus } from "./types";

/** Seconds over which a share is told. */
const SPAN = 10;

interface Look {
  uptime: number;
  busy: number;
}

/** How busy each replica was over the last seconds, by the number of its life. */
export class Busy {
  private readonly looks = new Map<number, Look[]>();

  /** Takes what the service says now. */
  push(status: ServiceStatus): void {
    const alive = new Set<number>();
    for (const { incarnation, uptime, totals } of status.endpoints.flatMap((e) => e.replicas)) {
      alive.add(incarnation);
      const looks = this.looks.get(incarnation) ?? [];
      this.looks.set(incarnation, looks);
      looks.push({ uptime, busy: totals.busy });
      while (looks.length > 2 && uptime - looks[1]!.uptime >= SPAN) looks.shift();
    }
    for (const incarnation of this.looks.keys())
      if (!alive.has(incarnation)) this.looks.delete(incarnation);
  }

  /** The share of the last seconds that a replica spent in steps; null until there is something to compare. */
  share(incarnation: number): number | null {
    const looks = this.looks.get(incarnation) ?? [];
    const [first, last] = [looks[0], looks.at(-1)];
    if (!first || !last || last.uptime <= first.uptime) return null;
    return Math.min(1, (last.busy - first.busy) / (last.uptime - first.uptime));
  }
}
