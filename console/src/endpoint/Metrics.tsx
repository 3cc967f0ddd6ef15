import { Link } from "react-router";
import type { EndpointEvent, EndpointStatus, ReplicaStatus } from "../api/types";
import { Chart, CLOCK } from "../chart/Chart";
import { Metric } from "../Metric";
import { deviceName, grouped, placeName, precisionName, timing } from "../numbers";
import { Memory } from "./Memory";
import { useTrack } from "./useTrack";

/** What is to be said of a replica that is not ready. */
function ReplicaState({ replica }: { replica: ReplicaStatus }) {
  if (replica.state === "starting")
    return (
      <p role="status" className="mt-3 border-l-4 border-lamp px-3 py-2">
        Replica {replica.replica} is being started: {replica.phase ?? "starting worker"}.
      </p>
    );
  if (replica.state === "draining")
    return (
      <p role="status" className="mt-3 border-l-4 border-lamp px-3 py-2">
        Replica {replica.replica} takes no more requests; those that it has end, or go on with the
        next worker.
      </p>
    );
  if (replica.state === "ready") return null;
  return (
    <p role="alert" className="mt-3 border-l-4 border-red px-3 py-2">
      Replica {replica.replica} has failed: {replica.failure ?? "its worker is gone"}.
    </p>
  );
}

/** What an endpoint that is served is doing: its figures, and what they were like. */
export function Metrics({
  endpoint,
  seconds,
  events,
}: {
  endpoint: EndpointStatus;
  seconds: number;
  events: EndpointEvent[];
}) {
  const { window, occupancy } = endpoint;
  const track = useTrack(endpoint.name, seconds);
  const marks = events
    .filter((event) => event.what !== "request_moved")
    .map((event) => event.at_ms / 1000);
  const busy = track.busy.at(-1) ?? null;
  const end = track.at.at(-1) ?? Date.now() / 1000;
  const range: [number, number] = [end - seconds, end];
  const perSecond = (count: number, seconds: number) =>
    seconds > 0 ? (count / seconds).toFixed(1) : "0.0";
  const none = (count: number, value: number) => (count > 0 ? timing(value) : "–");
  const spread = ({ count, p50, p95, p99 }: typeof window.ttft) =>
    `${none(count, p50)} · ${none(count, p95)} · ${none(count, p99)}`;
  return (
    <section aria-label="Figures" className="border border-line bg-sheet p-5">
      <p className="font-mono text-xs text-faint">
        release {endpoint.release} · {grouped(endpoint.parameters)} parameters ·{" "}
        {endpoint.replicas.map((replica) => (
          <span key={replica.replica}>{placeName(endpoint, replica)} · </span>
        ))}
        weights {precisionName(endpoint.precision)}, KV {endpoint.precision.kv} · context{" "}
        {grouped(endpoint.context)} ·{" "}
        <Link
          className="underline underline-offset-4"
          to={`/console/strip/${encodeURIComponent(endpoint.name)}`}
        >
          batch strip
        </Link>
      </p>
      {endpoint.replicas.map((replica) => (
        <ReplicaState key={replica.replica} replica={replica} />
      ))}
      <dl className="mt-4 grid grid-cols-2 gap-x-6 gap-y-4 md:grid-cols-4 xl:grid-cols-8">
        <Metric
          large
          name="tokens/s out"
          value={grouped(Math.round(window.output_rate))}
          meaning="Output tokens per second, over the last 10 seconds."
        />
        <Metric
          large
          name="TTFT p95"
          value={none(window.ttft.count, window.ttft.p95)}
          meaning="Time from a request's arrival to its first token: 95th percentile over the last 10 seconds."
        />
        <Metric
          name="load"
          value={`${perSecond(window.answered + window.refused, window.seconds)} calls/s`}
          meaning="Completed and refused calls per second, over the last 10 seconds."
        />
        <Metric
          name="lanes"
          value={`${occupancy.lanes_used} of ${occupancy.lanes}`}
          meaning="Sequences in the batch, of the batch width."
        />
        <Metric
          name="queue depth"
          value={`${grouped(occupancy.queue_depth)} of ${grouped(occupancy.queue_limit)}`}
          meaning="Sequences waiting for the batch, of the queue's limit."
        />
        <Metric
          name="device busy"
          value={busy === null ? "–" : `${Math.round(busy)} %`}
          meaning={`Share of the last 10 seconds in which ${deviceName(endpoint)} was in a step of this endpoint.`}
        />
        <Metric
          name="tokens/s in"
          value={grouped(Math.round(window.prefill_rate))}
          meaning="Prompt tokens computed per second, over the last 10 seconds. Reused tokens are not counted."
        />
        <Metric
          wide
          name="TTFT p50 · p95 · p99"
          value={spread(window.ttft)}
          meaning="Time from a request's arrival to its first token: 50th, 95th and 99th percentile over the last 10 seconds."
        />
        <Metric
          wide
          name="ITL p50 · p95 · p99"
          value={spread(window.itl)}
          meaning="Inter-token latency: gaps between two tokens of one stream. 50th, 95th and 99th percentile over the last 10 seconds."
        />
        <Metric
          name="refused"
          value={grouped(window.refused)}
          meaning="Calls refused or failed in the last 10 seconds."
        />
        <Metric
          name="preempted"
          value={grouped(endpoint.totals.preemptions)}
          meaning="Sequences put back in the queue to free KV pages, since the release was deployed."
        />
      </dl>
      <div className="mt-5 grid gap-x-8 gap-y-4 lg:grid-cols-2">
        <Chart
          title="Queue depth and lanes in use"
          unit="sequences"
          along={CLOCK}
          x={track.at}
          range={range}
          marks={marks}
          curves={[
            { name: "queue", color: "--color-red", values: track.queue, dash: [5, 3] },
            { name: "lanes", color: "--color-ink", values: track.lanes },
          ]}
        />
        <Chart
          title="Throughput"
          unit="tokens/s"
          along={CLOCK}
          x={track.at}
          range={range}
          marks={marks}
          curves={[
            { name: "out", color: "--color-ink", values: track.outRate },
            { name: "in", color: "--color-green", values: track.inRate, dash: [5, 3] },
          ]}
        />
        <Chart
          title="Time to first token"
          unit="ms"
          along={CLOCK}
          x={track.at}
          range={range}
          marks={marks}
          curves={[
            { name: "p50", color: "--color-ink", values: track.ttft50 },
            { name: "p95", color: "--color-green", values: track.ttft95, dash: [5, 3] },
            { name: "p99", color: "--color-red", values: track.ttft99, dash: [2, 3] },
          ]}
        />
        <Chart
          title="Inter-token latency"
          unit="ms"
          along={CLOCK}
          x={track.at}
          range={range}
          marks={marks}
          curves={[
            { name: "p50", color: "--color-ink", values: track.itl50 },
            { name: "p95", color: "--color-green", values: track.itl95, dash: [5, 3] },
            { name: "p99", color: "--color-red", values: track.itl99, dash: [2, 3] },
          ]}
        />
      </div>
      {endpoint.replicas.map((replica) => (
        <Memory key={replica.replica} replica={replica} simulated={endpoint.simulated} />
      ))}
    </section>
  );
}
