import { expect, test, vi } from "vitest";
import { call } from "./call";
import { change } from "./change";

vi.mock("./call", async (original) => ({
  ...(await original<typeof import("./call")>()),
  call: vi.fn(),
}));

/** Answers each call with the next state of a job; returns the paths that were called. */
function jobOf(states: string[]): string[] {
  const paths: string[] = [];
  vi.mocked(call).mockImplementation((path) => {
    paths.push(path);
    const state = states.shift();
    return Promise.resolve({ number: 7, state, outcome: `it is ${state}` });
  });
  return paths;
}

test("a change is followed to the end of its job", async () => {
  const paths = jobOf(["running", "running", "done"]);
  const job = await change("/manage/endpoints/desk/start", { method: "POST" });
  expect(job.state).toBe("done");
  expect(paths).toEqual(["/manage/endpoints/desk/start", "/manage/jobs/7", "/manage/jobs/7"]);
});

test("a change that fails or is replaced fails with the reason", async () => {
  for (const state of ["failed", "replaced", "cancelled"]) {
    jobOf(["running", state]);
    await expect(change("/manage/endpoints", { method: "POST" })).rejects.toThrow(`it is ${state}`);
  }
});
