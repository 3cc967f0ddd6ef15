import { useEffect } from "react";
import { Link, useSearchParams } from "react-router";
import { live } from "../api/live";
import type { RecordedCall } from "../api/types";
import { useAnswer } from "../api/useAnswer";
import { Empty, Trouble } from "../frame/State";
import { ago, grouped, timing } from "../numbers";
import { csv, jsonLines, save } from "./save";

/** What can be asked for; each stands in the address. */
const FILTERS = [
  { name: "endpoint", label: "Endpoint", kind: "text" },
  { name: "outcome", label: "Outcome", kind: "text" },
  { name: "caller", label: "Caller", kind: "text" },
  { name: "least_total", label: "Longer than (s)", kind: "number" },
] as const;

/** Calls are listed anew at most so often while they come in, in milliseconds. */
const PATIENCE = 1000;

/** Why was that one slow? The list to find it in. */
export function Requests() {
  const [query, setQuery] = useSearchParams();
  const asked = new URLSearchParams(query);
  if (!asked.has("most")) asked.set("most", "50");
  const {
    value: calls,
    error,
    again,
  } = useAnswer<RecordedCall[]>(`/manage/requests?${asked.toString()}`);
  useEffect(() => {
    let timer = 0;
    const stop = live.onCall(() => {
      if (!timer) {
        timer = window.setTimeout(() => {
          timer = 0;
          again();
        }, PATIENCE);
      }
    });
    return () => {
      stop();
      window.clearTimeout(timer);
    };
  }, [again]);
  function set(name: string, value: string) {
    const next = new URLSearchParams(query);
    if (value) next.set(name, value);
    else next.delete(name);
    setQuery(next, { replace: true });
  }
  return (
    <div className="flex flex-col gap-4">
      <div className="flex flex-wrap items-end gap-x-4 gap-y-3">
        <h2 className="mr-4 text-lg font-semibold">Requests</h2>
        {FILTERS.map(({ name, label, kind }) => (
          <label key={name} className="flex flex-col text-sm">
            {label}
            <input
              name={name}
              type={kind}
              min="0"
              step="any"
              value={query.get(name) ?? ""}
              onChange={(event) => set(name, event.target.value)}
              className="w-36 border border-ink/60 bg-paper px-2 py-1 font-mono"
            />
          </label>
        ))}
        <label className="flex items-center gap-2 py-1 text-sm">
          <input
            name="failed"
            type="checkbox"
            checked={query.get("failed") === "true"}
            onChange={(event) => set("failed", event.target.checked ? "true" : "")}
          />
          failed only
        </label>
        {calls && calls.length > 0 && (
          <div className="ml-auto flex gap-2 text-sm">
            <button
              type="button"
              onClick={() => save("requests.csv", "text/csv", csv(calls))}
              className="border border-ink px-3 py-1"
            >
              CSV
            </button>
            <button
              type="button"
              onClick={() => save("requests.jsonl", "application/jsonl", jsonLines(calls))}
              className="border border-ink px-3 py-1"
            >
              JSON Lines
            </button>
          </div>
        )}
      </div>
      {error && <Trouble error={error} again={again} />}
      {!calls && !error && <Empty>Loading…</Empty>}
      {calls?.length === 0 && (
        <Empty>No matching requests. Ask a question on the Try page to make one.</Empty>
      )}
      {calls && calls.length > 0 && <Table calls={calls} />}
    </div>
  );
}

const HEADS = [
  "ago",
  "request",
  "caller",
  "endpoint",
  "outcome",
  "in",
  "reused",
  "out",
  "queued",
  "TTFT",
  "ITL p50",
  "total",
];

function Table({ calls }: { calls: RecordedCall[] }) {
  const time = (seconds: number) => (seconds > 0 ? timing(seconds) : "–");
  return (
    <div className="relative overflow-x-auto border border-line bg-sheet">
      <table className="w-full border-collapse font-mono text-sm tabular-nums">
        <thead>
          <tr className="border-b border-ink/60 text-left">
            {HEADS.map((head, column) => (
              <th
                key={head}
                scope="col"
                className={`px-3 py-2 font-medium ${column > 4 ? "text-right" : ""}`}
              >
                {head}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {calls.map((call) => (
            <tr
              key={`${call.id} ${call.at_ms}`}
              className="border-b border-line whitespace-nowrap hover:bg-shoal"
            >
              <td className="px-3 py-1">{ago(call.seconds_ago)}</td>
              <td className="px-3 py-1">
                <Link
                  to={`/console/requests/${encodeURIComponent(call.id)}`}
                  className="underline underline-offset-4"
                >
                  {call.id.slice(0, 12)}
                </Link>
              </td>
              <td className="px-3 py-1">{call.caller || "–"}</td>
              <td className="px-3 py-1">{call.endpoint}</td>
              <td className="px-3 py-1">
                {call.status >= 400 ? (
                  <span className="text-red">✕ {call.outcome}</span>
                ) : (
                  call.outcome
                )}
              </td>
              {[
                grouped(call.prompt_tokens),
                grouped(call.reused_tokens),
                grouped(call.output_tokens),
                time(call.queued),
                time(call.ttft),
                time(call.itl_p50),
                time(call.total),
              ].map((value, column) => (
                <td key={HEADS[column + 5]} className="px-3 py-1 text-right">
                  {value}
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}
