import { describe, expect, it } from "vitest";
import { History } from "./history";
import type { ServiceStatus } from "./types";

function status(queue: number, count: number): ServiceStatus {
  const spread = { count, p50: 0.002, p95: 0.004, p99: 0.008 };
  const window = { ttft: spread, itl: spread, output_rate: 90, prefill_rate: 30 };
  const occupancy = { queue_depth: queue, lanes_used: 3, pages_used: 7 };
  const endpoint = { name: "pierdesk", occupancy, window, replicas: [] };
  return { endpoints: [endpoint] } as unknown as ServiceStatus;
}

describe("what the page has seen of an endpoint", () => {
  it("is kept point by point, durations in milliseconds", () => {
    const history = new History();
    history.push(status(4, 12), 100);
    history.push(status(5, 0), 101);
    const track = history.of("pierdesk");
    expect(track.at).toEqual([100, 101]);
    expect(track.queue).toEqual([4, 5]);
    expect(track.ttft50[0]).toBeCloseTo(2);
    expect(track.itl99[0]).toBeCloseTo(8);
  });

  it("has a gap where nothing was measured", () => {
    const history = new History();
    history.push(status(0, 0), 100);
    expect(history.of("pierdesk").ttft50).toEqual([null]);
  });

  it("forgets the oldest points", () => {
    const history = new History();
    for (let second = 0; second < 5000; second += 1) history.push(status(second, 1), second);
    const { at, queue } = history.of("pierdesk");
    expect(at.length).toBeLessThan(5000);
    expect([at.length, at.at(-1), queue.at(-1)]).toEqual([queue.length, 4999, 4999]);
  });
});
