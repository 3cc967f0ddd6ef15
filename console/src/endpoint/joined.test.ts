import { describe, expect, it } from "vitest";
import { History } from "../api/history";
import type { EndpointHistory, ServiceStatus } from "../api/types";
import { joined } from "./joined";

function kept(...seconds: number[]): EndpointHistory {
  const points = seconds.map((at) => ({
    release: 1,
    replica: 1,
    incarnation: 1,
    device: "cpu",
    simulated: false,
    at_ms: at * 1000,
    queue_depth: at,
    lanes_used: 1.5,
    pages_used: 2,
    prefill_rate: 0,
    output_rate: 9,
    busy_share: 0.5,
    answered: 1,
    refused: 0,
    ttft: [0.01, 0.02, 0.03] as [number, number, number],
    itl: null,
  }));
  return { span: 5, points };
}

function heard(...seconds: number[]) {
  const history = new History();
  const window = {
    output_rate: 7,
    prefill_rate: 1,
    ttft: { count: 0, p50: 0, p95: 0, p99: 0 },
    itl: { count: 1, p50: 0.001, p95: 0.002, p99: 0.003 },
  };
  const occupancy = { queue_depth: 4, lanes_used: 2, pages_used: 3 };
  const endpoint = { name: "m", occupancy, window, replicas: [] };
  for (const at of seconds) history.push({ endpoints: [endpoint] } as unknown as ServiceStatus, at);
  return history.of("m");
}

describe("joined", () => {
  it("puts what was kept before what was heard and leaves out what both know", () => {
    const track = joined(kept(0, 5, 10), heard(12, 13));
    expect(track.at).toEqual([5, 10, 12, 13]);
    expect(track.queue).toEqual([0, 5, 4, 4]);
    expect(track.ttft95).toEqual([20, 20, null, null]);
    expect(track.itl50).toEqual([null, null, 1, 1]);
  });

  it("leaves times empty in which the service did not run", () => {
    const track = joined(kept(0, 5, 60), heard());
    expect(track.at).toEqual([5, 10, 10.1, 65]);
    expect(track.queue).toEqual([0, 5, null, 60]);
  });

  it("has one point for each moment, the later life's", () => {
    const track = joined(kept(5, 5, 10), heard());
    expect(track.at).toEqual([10, 15]);
  });

  it("is what was heard when nothing was kept", () => {
    expect(joined(null, heard(1, 2)).at).toEqual([1, 2]);
  });
});
