import { describe, expect, it, vi } from "vitest";
import { Live } from "./live";
import type { ServiceStatus, Step } from "./types";

/** A service that has been up for a while, with a model that was started later. */
function status(uptime: number, model: number): ServiceStatus {
  const window = { ttft: {}, itl: {} };
  const models = [{ name: "late", uptime: model, window, memory: {} }];
  return { uptime, models } as unknown as ServiceStatus;
}

describe("a model's own clock", () => {
  it("counts from when the model started, not from when the service did", () => {
    vi.spyOn(performance, "now").mockReturnValue(1000);
    const live = new Live();
    live.take("status", JSON.stringify(status(500, 3)));
    const step = { number: 1, at: 2.5, duration: 0.1, lanes: [], admitted: [] } as unknown as Step;
    live.take("steps", JSON.stringify({ model: "late", steps: [step] }));
    // The step lies within the strip's five seconds.
    expect(live.now("late")).toBeCloseTo(3);
    vi.spyOn(performance, "now").mockReturnValue(2000);
    expect(live.now("late")).toBeCloseTo(4);
  });

  it("is never behind the end of the last step", () => {
    vi.spyOn(performance, "now").mockReturnValue(0);
    const live = new Live();
    live.take("status", JSON.stringify(status(9, 5)));
    const step = { number: 1, at: 5.2, duration: 0.1, lanes: [], admitted: [] } as unknown as Step;
    live.take("steps", JSON.stringify({ model: "late", steps: [step] }));
    expect(live.now("late")).toBeCloseTo(5.3);
  });
});
