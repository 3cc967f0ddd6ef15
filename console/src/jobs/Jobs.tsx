import { useEffect, useState } from "react";
import { Link } from "react-router";
import { call } from "../api/call";
import { isOver } from "../api/change";
import type { BuildEntry, JobEntry } from "../api/types";
import { useAnswer } from "../api/useAnswer";
import { ago, bytes, timing } from "../numbers";
import { Confirm } from "../frame/Confirm";
import { Empty, Trouble } from "../frame/State";

/** Jobs are asked for again so often, in milliseconds. */
const AGAIN = 1000;

/** Kinds of jobs that hold from their beginning on, so that nobody can cancel them. */
const HOLDS = ["stop", "remove"];

/** What is under way, how far, what did it say? */
export function Jobs() {
  const { value: jobs, error, again } = useAnswer<JobEntry[]>("/manage/jobs?most=100", AGAIN);
  const builds = useAnswer<BuildEntry[]>("/manage/builds", AGAIN);
  const [open, setOpen] = useState<number | null>(null);
  return (
    <div className="flex flex-col gap-5">
      <h2 className="text-lg font-semibold">Jobs</h2>
      {error && !jobs && <Trouble error={error} again={again} />}
      {!jobs && !error && <Empty>Loading…</Empty>}
      {jobs?.length === 0 && (
        <Empty>
          No jobs yet. Each change of an endpoint is one; so is converting a model for the
          processor, and a load test.
        </Empty>
      )}
      {jobs && jobs.length > 0 && (
        <ol className="flex flex-col border border-line bg-sheet">
          {jobs.map((job) => (
            <li key={job.number} data-job={job.number} className="border-b border-line px-4 py-2">
              <Line
                job={job}
                open={open === job.number}
                onOpen={() => setOpen(open === job.number ? null : job.number)}
                onChange={again}
              />
              {open === job.number && <Said number={job.number} state={job.state} />}
            </li>
          ))}
        </ol>
      )}
      {builds.value && builds.value.length > 0 && <Builds builds={builds.value} />}
    </div>
  );
}

function Line({
  job,
  open,
  onOpen,
  onChange,
}: {
  job: JobEntry;
  open: boolean;
  onOpen: () => void;
  onChange: () => void;
}) {
  const bad = job.state === "failed" || job.state === "interrupted";
  return (
    <div className="grid grid-cols-[3rem_1fr] items-center gap-x-3 gap-y-1 md:grid-cols-[3rem_5rem_minmax(0,2fr)_minmax(0,3fr)_12rem]">
      <span className="font-mono text-sm text-faint">{job.number}</span>
      <span className="text-sm">{job.kind}</span>
      <span className="col-start-2 flex min-w-0 items-baseline gap-2 md:col-start-auto">
        {job.name && (
          <span className="min-w-0 truncate" title={job.name}>
            {job.kind === "deploy" ? lastPart(job.name) : job.name}
          </span>
        )}
        {job.endpoint && (
          <Link
            className="shrink-0 text-sm whitespace-nowrap underline underline-offset-4"
            to={`/console/endpoints/${encodeURIComponent(job.endpoint)}`}
          >
            {job.endpoint}
          </Link>
        )}
      </span>
      <span className="col-start-2 min-w-0 md:col-start-auto">
        {isOver(job) ? (
          <span className={`block truncate text-sm ${bad ? "text-red" : ""}`} title={job.outcome}>
            {bad ? "■" : job.state === "done" ? "▲" : "○"} {job.state} after {timing(job.seconds)}
            {job.outcome && `: ${job.outcome}`}
          </span>
        ) : (
          <Progress job={job} />
        )}
      </span>
      <span className="col-start-2 flex items-center justify-end gap-2 md:col-start-auto">
        <span className="font-mono text-xs whitespace-nowrap text-faint">
          {ago(job.seconds_ago)} ago
        </span>
        <button
          type="button"
          aria-expanded={open}
          onClick={onOpen}
          className="border border-ink px-2 text-sm"
        >
          Log
        </button>
        {!isOver(job) && !HOLDS.includes(job.kind) && (
          <Confirm
            name="Cancel"
            title={`Cancel job ${job.number}?`}
            action={`Cancel job ${job.number}`}
            destroys
            act={async () => {
              await call(`/manage/jobs/${job.number}`, { method: "DELETE" });
              onChange();
            }}
          >
            {job.kind === "load"
              ? "The measurements taken so far stay."
              : "The job leaves nothing behind and its endpoint stays as it was. Waiting callers get an error."}
          </Confirm>
        )}
      </span>
    </div>
  );
}

/** The last part of a path; the whole path is its title. */
function lastPart(path: string): string {
  return path.split("/").filter(Boolean).pop() ?? path;
}

function Progress({ job }: { job: JobEntry }) {
  const part = job.part ?? 0;
  return (
    <span className="flex items-center gap-3 text-sm">
      <span
        role="progressbar"
        aria-label={`Progress of job ${job.number}`}
        aria-valuenow={Math.round(100 * part)}
        className="h-2 w-full min-w-16 border border-ink/60"
      >
        <span className="block h-full bg-lamp" style={{ width: `${100 * part}%` }} />
      </span>
      <span className="font-mono whitespace-nowrap">
        {job.state === "queued" || job.part == null
          ? job.state
          : `${Math.round(100 * part)} %${job.seconds_left != null ? `, ${ago(job.seconds_left)} left` : ""}`}
      </span>
    </span>
  );
}

/** What a job has said so far. */
function Said({ number, state }: { number: number; state: string }) {
  const { value, error, again } = useAnswer<JobEntry>(`/manage/jobs/${number}`);
  useEffect(() => again(), [state, again]);
  if (error) return <Trouble error={error} again={again} />;
  return (
    <pre
      tabIndex={0}
      aria-label={`Log of job ${number}`}
      className="mt-2 max-h-64 overflow-auto bg-shoal px-3 py-2 font-mono text-xs whitespace-pre-wrap"
    >
      {value ? value.log || "No output." : "Loading…"}
    </pre>
  );
}

function Builds({ builds }: { builds: BuildEntry[] }) {
  return (
    <section aria-label="Builds">
      <h3 className="mb-1 font-medium">Builds: models that were converted once</h3>
      <div className="relative overflow-x-auto border border-line bg-sheet">
        <table className="w-full border-collapse text-sm">
          <thead>
            <tr className="border-b border-ink/60 text-left">
              {["weights", "size", "users", "source", "build"].map((head) => (
                <th key={head} scope="col" className="px-3 py-2 font-medium">
                  {head}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {builds.map((build) => (
              <tr key={build.digest} className="border-b border-line">
                <td className="px-3 py-1.5 whitespace-nowrap">{build.precision}</td>
                <td className="px-3 font-mono whitespace-nowrap">{bytes(build.bytes)}</td>
                <td className="px-3">{build.users.join(", ")}</td>
                <td className="px-3 break-all">{build.source}</td>
                <td className="px-3 font-mono text-xs text-faint">{build.digest.slice(0, 12)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    </section>
  );
}
