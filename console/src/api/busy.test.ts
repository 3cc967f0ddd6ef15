import { describe, expect, it } from "vitest";
import { Busy } from "./busy";
import type { ServiceStatus } from "./types";

function status(...replicas: [number, number, number][]): ServiceStatus {
  const of = ([incarnation, uptime, busy]: [number, number, number]) => ({
    incarnation,
    uptime,
    totals: { busy },
  });
  return { endpoints: [{ replicas: replicas.map(of) }] } as unknown as ServiceStatus;
}

describe("how busy a replica was", () => {
  it("is the share of the last ten seconds", () => {
    const busy = new Busy();
    expect(busy.share(1)).toBeNull();
    busy.push(status([1, 0, 0]));
    expect(busy.share(1)).toBeNull();
    busy.push(status([1, 4, 1]));
    expect(busy.share(1)).toBeCloseTo(0.25);
    for (let second = 5; second <= 30; second += 1) busy.push(status([1, second, second - 3]));
    expect(busy.share(1)).toBeCloseTo(1);
  });

  it("is told of each life apart and forgotten with it", () => {
    const busy = new Busy();
    busy.push(status([1, 10, 5], [2, 1, 0]));
    busy.push(status([1, 12, 5], [2, 3, 1]));
    expect([busy.share(1), busy.share(2)]).toEqual([0, 0.5]);
    busy.push(status([2, 4, 1]));
    expect(busy.share(1)).toBeNull();
  });
});
