import { ApiError, call } from "./call";
import type { JobEntry } from "./types";

/** Time between two looks at the job of a change, in milliseconds. */
const LOOK = 250;

/** Whether nothing more comes of a job. */
export function isOver({ state }: JobEntry): boolean {
  return state !== "queued" && state !== "running";
}

/** Asks for a change of an endpoint and waits for the end of its job; fails when the change does not reach what it wants. */
export async function change(path: string, init: RequestInit): Promise<JobEntry> {
  let job = await call<JobEntry>(path, init);
  while (!isOver(job)) {
    await new Promise((done) => setTimeout(done, LOOK));
    job = await call<JobEntry>(`/manage/jobs/${job.number}`);
  }
  if (job.state !== "done") throw new ApiError(409, `change_${job.state}`, job.outcome);
  return job;
}
