import { describe, expect, it, vi } from "vitest";
import { Live, stripOf } from "./live";
import type { ServiceStatus, Step } from "./types";

/** A service that has been up for a while, with a replica that was started later. */
function status(service: number, uptime: number): ServiceStatus {
  const window = { ttft: {}, itl: {} };
  const replicas = [{ replica: 1, uptime, totals: { busy: 0 } }];
  const endpoint = { name: "late", window, occupancy: {}, replicas };
  return { uptime: service, endpoints: [endpoint] } as unknown as ServiceStatus;
}

function steps(incarnation: number, number: number, at: number): string {
  const step = { number, at, duration: 0.1, lanes: [], admitted: [] } as unknown as Step;
  return JSON.stringify({ endpoint: "late", release: 1, replica: 1, incarnation, steps: [step] });
}

const STRIP = stripOf("late", 1);

describe("a replica's own clock", () => {
  it("counts from when the replica started, not from when the service did", () => {
    vi.spyOn(performance, "now").mockReturnValue(1000);
    const live = new Live();
    live.take("status", JSON.stringify(status(500, 3)));
    live.take("steps", steps(1, 1, 2.5));
    // The step lies within the strip's five seconds.
    expect(live.now(STRIP)).toBeCloseTo(3);
    vi.spyOn(performance, "now").mockReturnValue(2000);
    expect(live.now(STRIP)).toBeCloseTo(4);
  });

  it("is never behind the end of the last step", () => {
    vi.spyOn(performance, "now").mockReturnValue(0);
    const live = new Live();
    live.take("status", JSON.stringify(status(9, 5)));
    live.take("steps", steps(1, 1, 5.2));
    expect(live.now(STRIP)).toBeCloseTo(5.3);
  });

  it("begins anew with another life, and so do its steps", () => {
    vi.spyOn(performance, "now").mockReturnValue(0);
    const live = new Live();
    live.take("status", JSON.stringify(status(500, 100)));
    live.take("steps", steps(1, 900, 105));
    expect(live.now(STRIP)).toBeCloseTo(105.1);
    live.take("status", JSON.stringify(status(501, 1)));
    live.take("steps", steps(2, 1, 0.5));
    expect(live.now(STRIP)).toBeCloseTo(1);
    expect(live.steps.get(STRIP)?.map(({ number }) => number)).toEqual([1]);
  });
});
