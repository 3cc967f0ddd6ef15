import { useState } from "react";
import { Link } from "react-router";
import { call } from "../api/call";
import type { LoadStatus, EndpointStatus } from "../api/types";
import { Metric } from "../Metric";
import { grouped, timing } from "../numbers";
import { Empty, Trouble } from "../frame/State";

const STATES = {
  warming: "warming up",
  sending: "sending",
  ended: "ended and kept",
  failed: "failed",
} as const;

/** The newest load test while it runs, and what became of it. */
export function UnderWay({
  load,
  endpoints,
  onShow,
}: {
  load: LoadStatus | null;
  endpoints: EndpointStatus[];
  onShow: (run: string) => void;
}) {
  const [error, setError] = useState<Error | null>(null);
  if (!load) return <Empty>No load test is running.</Empty>;
  const busy = load.state === "warming" || load.state === "sending";
  const occupancy = endpoints.find(({ name }) => name === load.model)?.occupancy;
  const rate = load.seconds > 0 ? load.output_tokens / load.seconds : 0;
  return (
    <section aria-label="Running load test" className="border border-line bg-sheet p-5">
      <div className="flex flex-wrap items-baseline justify-between gap-2">
        <h3 className="font-medium">{load.name}</h3>
        <p data-load-state className="text-sm text-faint">
          {busy && (
            <span aria-hidden="true" className="mr-2 inline-block size-3 rounded-full bg-lamp" />
          )}
          {STATES[load.state]}
        </p>
      </div>
      <div
        role="progressbar"
        aria-label="Progress"
        aria-valuenow={Math.round(load.part * 100)}
        className="mt-3 h-3 border border-ink/60"
      >
        <div className="h-full bg-ink" style={{ width: `${load.part * 100}%` }} />
      </div>
      <dl className="mt-4 grid grid-cols-2 gap-x-6 gap-y-3 sm:grid-cols-3">
        <Metric
          name="sent · ended"
          value={`${grouped(load.sent)} · ${grouped(load.ended)}`}
          meaning="Requests sent and requests completed so far."
        />
        <Metric name="errors" value={grouped(load.errors)} meaning="Requests refused or failed." />
        <Metric
          name="tokens/s"
          value={grouped(Math.round(rate))}
          meaning="Output tokens of completed answers per second, since the first counted request."
        />
        <Metric
          name="TTFT p50"
          value={load.ttft_p50 > 0 ? timing(load.ttft_p50) : "–"}
          meaning="Median time to first token of the last 50 requests, from when each was due."
        />
        <Metric
          name="queue depth"
          value={occupancy ? grouped(occupancy.queue_depth) : "–"}
          meaning="Sequences waiting for the batch now."
        />
        <Metric
          name="lanes"
          value={occupancy ? `${occupancy.lanes_used} of ${occupancy.lanes}` : "–"}
          meaning="Sequences in the batch now, of the batch width."
        />
      </dl>
      {load.failure && (
        <p role="alert" className="mt-3 border-l-4 border-red px-3 py-1">
          {load.failure}
        </p>
      )}
      {error && <Trouble error={error} />}
      <div className="mt-4 flex flex-wrap gap-3">
        {busy && (
          <button
            type="button"
            onClick={() => {
              setError(null);
              call("/manage/load", { method: "DELETE" }).catch(setError);
            }}
            className="border border-ink px-4 py-1"
          >
            Stop load test
          </button>
        )}
        {busy && (
          <Link
            to={`/console/strip/${encodeURIComponent(load.model)}`}
            className="px-1 py-1 underline underline-offset-4"
          >
            its batch strip
          </Link>
        )}
        {load.run && (
          <button
            type="button"
            onClick={() => onShow(load.run!)}
            className="border border-ink px-4 py-1"
          >
            Open report
          </button>
        )}
      </div>
    </section>
  );
}
