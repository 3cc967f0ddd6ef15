import { memo, useEffect, useState } from "react";
import { call, send } from "../api/call";
import { Chart, type Along, type Curve } from "../chart/Chart";
import { grouped, timing } from "../numbers";
import { Empty, Trouble } from "../frame/State";
import { save } from "../requests/save";
import { Comparison } from "./Comparison";
import {
  arrivalWords,
  firstTokens,
  gaps,
  percentiles,
  queueEachSecond,
  SHARES,
  tokensEachSecond,
  type Run,
  type RunEntry,
} from "./run";

const SHARE: Along = { name: "share", label: (share) => `${share} %` };
const SECOND: Along = { name: "second", label: (second) => `${Math.round(second)} s` };

/** How curves of different runs are told apart: by colour and by dash. */
const STYLES = [
  { color: "--color-ink" },
  { color: "--color-red", dash: [7, 4] },
  { color: "--color-green", dash: [2, 3] },
  { color: "--color-faint", dash: [9, 3, 2, 3] },
];

/** The reports of some runs, laid over each other. */
export function Shown({ ids }: { ids: string[] }) {
  const wanted = ids.join();
  const [runs, setRuns] = useState<Run[] | null>(null);
  const [error, setError] = useState<Error | null>(null);
  useEffect(() => {
    let current = true;
    setError(null);
    const each = wanted
      .split(",")
      .map((id) => call<RunEntry>(`/manage/runs/${encodeURIComponent(id)}`).then(({ run }) => run));
    Promise.all(each).then(
      (runs) => current && setRuns(runs),
      (error: Error) => current && setError(error),
    );
    return () => {
      current = false;
    };
  }, [wanted]);
  if (error) return <Trouble error={error} />;
  if (!runs) return <Empty>Loading runs…</Empty>;
  return (
    <article aria-label="Report" className="flex flex-col gap-5 border border-line bg-sheet p-5">
      <Metrics runs={runs} />
      <Charts runs={runs} />
      {runs.length === 2 && <Comparison a={runs[0]!} b={runs[1]!} />}
    </article>
  );
}

function Swatch({ index }: { index: number }) {
  const { color, dash } = STYLES[index % STYLES.length]!;
  return (
    <svg width="28" height="8" aria-hidden="true" className="mr-2 inline-block">
      <line
        x1="0"
        x2="28"
        y1="4"
        y2="4"
        stroke={`var(${color})`}
        strokeWidth="2.5"
        strokeDasharray={dash?.join(" ")}
      />
    </svg>
  );
}

function Metrics({ runs }: { runs: Run[] }) {
  const spread = ({ p50, p90, p99, max }: Run["summary"]["ttft"]) =>
    [p50, p90, p99, max].map(timing).join(" · ");
  const share = (part: number | null) => (part === null ? "–" : `${Math.round(part * 100)} %`);
  const errors = (found: Record<string, number>) =>
    Object.entries(found)
      .map(([kind, count]) => `${kind}: ${grouped(count)}`)
      .join(", ") || "none";
  const rows: [string, (run: Run) => string][] = [
    ["arrivals", arrivalWords],
    ["prompts", (run) => run.workload.prompts.replace(/, BLAKE3.*/, "")],
    [
      "requests done of sent",
      ({ summary }) => `${grouped(summary.done)} of ${grouped(summary.sent)}`,
    ],
    ["errors", ({ summary }) => errors(summary.errors)],
    ["TTFT p50 · p90 · p99 · max", ({ summary }) => spread(summary.ttft)],
    ["ITL p50 · p90 · p99 · max", ({ summary }) => spread(summary.itl)],
    ["total p50 · p90 · p99 · max", ({ summary }) => spread(summary.total)],
    [
      "tokens/s out · in",
      ({ summary }) =>
        `${grouped(Math.round(summary.output_rate))} · ${grouped(Math.round(summary.input_rate))}`,
    ],
    ["tokens/s per stream, p50", ({ summary }) => summary.user_rate.p50.toFixed(1)],
    [
      "streams that kept the pace",
      ({ summary, workload }) => `${share(summary.kept_pace)} at ${workload.pace} tokens/s`,
    ],
    [
      "deepest queue",
      ({ summary }) => (summary.deepest_queue === null ? "–" : grouped(summary.deepest_queue)),
    ],
    [
      "lanes · KV at most · device busy",
      ({ summary }) =>
        [summary.lanes_share, summary.pages_share, summary.busy_share].map(share).join(" · "),
    ],
    [
      "preemptions",
      ({ summary }) => (summary.preemptions === null ? "–" : grouped(summary.preemptions)),
    ],
    ["limited by", ({ summary }) => summary.limit_reason],
  ];
  return (
    <div className="relative overflow-x-auto">
      <table className="w-full border-collapse text-sm">
        <thead>
          <tr className="border-b border-ink/60 text-left align-bottom">
            <td className="pr-4 pb-2" />
            {runs.map((run, index) => (
              <th key={run.id} scope="col" className="min-w-60 pr-4 pb-2 font-medium">
                {runs.length > 1 && <Swatch index={index} />}
                {run.name}
                {run.stopped_early && <span className="text-faint"> (stopped early)</span>}
                <span className="block font-mono text-xs font-normal text-faint">
                  {new Date(run.begun_ms).toLocaleString("en-GB")}, {Math.round(run.seconds)} s{" "}
                  <Report run={run} form="html" /> <Report run={run} form="csv" />
                </span>
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {rows.map(([name, words]) => (
            <tr key={name} className="border-b border-line align-top">
              <th scope="row" className="w-56 py-1 pr-4 text-left font-normal text-faint">
                {name}
              </th>
              {runs.map((run) => (
                <td key={run.id} className="py-1 pr-4 font-mono tabular-nums">
                  {words(run)}
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

/** Saves a run's report as a file. */
function Report({ run, form }: { run: Run; form: "html" | "csv" }) {
  async function fetchIt() {
    const path = `/manage/runs/${encodeURIComponent(run.id)}/report?form=${form}`;
    save(`run-${run.id}.${form}`, `text/${form}`, await (await send(path)).text());
  }
  return (
    <button
      type="button"
      onClick={() => void fetchIt()}
      className="ml-1 border border-ink/60 px-2 uppercase"
    >
      {form}
    </button>
  );
}

/** Drawn once for the same runs: sorting a million gaps is not for every live event. */
const Charts = memo(function Charts({ runs }: { runs: Run[] }) {
  const seconds = Math.max(...runs.map((run) => Math.ceil(run.seconds)), 1);
  const each = Array.from({ length: seconds }, (_, second) => second);
  const curves = (values: (run: Run) => (number | null)[], length: number): Curve[] =>
    runs.map((run, index) => {
      const padded = values(run);
      while (padded.length < length) padded.push(null);
      return {
        name: runs.length > 1 ? run.name : "value",
        ...STYLES[index % STYLES.length]!,
        values: padded,
      };
    });
  const shares = SHARES.length;
  return (
    <div className="grid gap-x-8 gap-y-4 lg:grid-cols-2">
      <Chart
        title="Time to first token, by share of requests"
        unit="ms"
        along={SHARE}
        x={SHARES}
        range={[0, 100]}
        curves={curves((run) => percentiles(firstTokens(run)), shares)}
      />
      <Chart
        title="Inter-token latency, by share of gaps"
        unit="ms"
        along={SHARE}
        x={SHARES}
        range={[0, 100]}
        curves={curves((run) => percentiles(gaps(run)), shares)}
      />
      <Chart
        title="Throughput"
        unit="tokens/s"
        along={SECOND}
        x={each}
        range={[0, seconds]}
        curves={curves(tokensEachSecond, seconds)}
      />
      <Chart
        title="Queue depth"
        unit="sequences"
        along={SECOND}
        x={each}
        range={[0, seconds]}
        curves={curves(queueEachSecond, seconds)}
      />
    </div>
  );
});
