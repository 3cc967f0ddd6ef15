import type { ReactNode } from "react";
import { Link } from "react-router";
import type { EndpointStatus, ServiceStatus } from "../api/types";
import { useTrack } from "../endpoint/useTrack";
import { ago, deviceName, grouped, timing } from "../numbers";
import { Buoy } from "../frame/Buoy";
import { byAttention } from "./attention";
import { Spark, SPARK_SECONDS } from "./Spark";

const HEADS = [
  ["endpoint", ""],
  ["state", "One of: starting, ready, degraded, draining, parked, stopped, failed."],
  ["device", "Where its replicas run."],
  ["calls/s", "Completed and refused calls per second, over the last 10 seconds."],
  ["lanes", "Sequences in the batch, of the batch width."],
  ["queue", "Sequences waiting for the batch."],
  ["tokens/s", "Output tokens per second, over the last 10 seconds."],
  [
    "TTFT p50",
    "Time from a request's arrival to its first token, at the median of the last 10 seconds.",
  ],
  ["ITL p50", "Gap between two tokens of a stream, at the median of the last 10 seconds."],
  ["KV in use", "Share of the KV pages that sequences hold."],
  ["tokens/s, last 2 min", "Output tokens per second."],
] as const;

/** Every endpoint on one line; what needs attention comes first. */
export function Fleet({ status }: { status: ServiceStatus }) {
  const served = status.endpoints.map((endpoint) => ({
    name: endpoint.name,
    state: endpoint.state,
    refused: endpoint.window.refused,
    row: <Served endpoint={endpoint} />,
  }));
  const resting = (status.resting ?? []).map((endpoint) => ({
    name: endpoint.name,
    state: endpoint.state,
    refused: 0,
    row: <Resting why={`for ${ago(endpoint.seconds)}: ${endpoint.why}`} />,
  }));
  return (
    <div className="relative overflow-x-auto border border-line bg-sheet">
      <table className="w-full border-collapse text-sm">
        <thead>
          <tr className="border-b border-ink/60 text-left">
            {HEADS.map(([head, meaning], place) => (
              <th
                key={head}
                scope="col"
                title={meaning}
                className={`px-2 py-2 font-medium whitespace-nowrap ${place > 2 && place < 10 ? "text-right" : ""}`}
              >
                {head}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {byAttention([...served, ...resting]).map(({ name, state, row }) => (
            <tr key={name} data-endpoint={name} className="border-b border-line whitespace-nowrap">
              <th scope="row" className="px-2 py-1.5 text-left font-medium">
                <Link
                  className="underline underline-offset-4"
                  to={`/console/endpoints/${encodeURIComponent(name)}`}
                >
                  {name}
                </Link>
              </th>
              <td className="px-2">
                <span className="flex items-center gap-1.5">
                  <Buoy state={state} /> {state}
                </span>
              </td>
              {row}
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

function Served({ endpoint }: { endpoint: EndpointStatus }) {
  const track = useTrack(endpoint.name, SPARK_SECONDS);
  const { window, occupancy } = endpoint;
  const calls = window.answered + window.refused;
  const rate = window.seconds > 0 ? calls / window.seconds : 0;
  const kv = occupancy.pages > 0 ? (100 * occupancy.pages_used) / occupancy.pages : 0;
  return (
    <>
      <td className="px-2">{deviceName(endpoint)}</td>
      <Number>
        {rate.toFixed(1)}
        {window.refused > 0 && (
          <span className="text-red"> ({grouped(window.refused)} refused)</span>
        )}
      </Number>
      <Number>
        {occupancy.lanes_used} of {occupancy.lanes}
      </Number>
      <Number>{grouped(occupancy.queue_depth)}</Number>
      <Number>{grouped(Math.round(window.output_rate))}</Number>
      <Number>{window.ttft.count > 0 ? timing(window.ttft.p50) : "–"}</Number>
      <Number>{window.itl.count > 0 ? timing(window.itl.p50) : "–"}</Number>
      <Number>{kv.toFixed(0)} %</Number>
      <td className="w-full px-2 py-1">
        <Spark
          at={track.at}
          values={track.outRate}
          label={`Output tokens per second of ${endpoint.name}`}
          unit="tokens per second"
        />
      </td>
    </>
  );
}

function Resting({ why }: { why: string }) {
  return (
    <td colSpan={9} className="max-w-0 truncate px-2 text-faint" title={why}>
      {why}
    </td>
  );
}

function Number({ children }: { children: ReactNode }) {
  return <td className="px-2 text-right font-mono tabular-nums">{children}</td>;
}
