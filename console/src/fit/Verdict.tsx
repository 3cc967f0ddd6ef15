import type { FitAnswer } from "../api/types";
import { bytes, grouped, price, timing } from "../numbers";
import { Capacity } from "../frame/Capacity";
import { MemoryBar } from "../frame/MemoryBar";
import { place } from "./place";

/** Whether it fits, what it takes of each device, and what callers would see. */
export function Verdict({ answer }: { answer: FitAnswer }) {
  const { report, device } = answer;
  const way = report.ways.find(({ split }) => split === answer.chosen);
  const figures = way?.reason == null ? way : undefined;
  if (!figures?.memory_limit) return <Refused answer={answer} />;
  const { predicted } = figures;
  const taken =
    figures.weights_bytes + figures.workspace_bytes + figures.process_bytes + figures.kv_pool_bytes;
  const parts = [
    ["weights", figures.weights_bytes, "bg-ink"],
    ["workspace, process", figures.workspace_bytes + figures.process_bytes, "bg-faint"],
    ["KV pool", figures.kv_pool_bytes, "bg-green"],
    ["free", figures.memory_limit - taken, "bg-shoal"],
    ["beyond the memory share", device.memory - figures.memory_limit, "bg-paper"],
  ] as const;
  const facts = [
    ["TTFT, predicted", timing(predicted.ttft)],
    ["ITL, predicted", timing(predicted.itl)],
    ["tokens/s, predicted", grouped(Math.round(predicted.tokens_per_second))],
    [
      "price of a million tokens",
      device.price > 0 ? price(predicted.price_per_million_tokens, device.currency) : "–",
    ],
  ] as const;
  return (
    <section aria-label="Verdict" className="border border-line bg-sheet p-5">
      <h3 className="mb-3 text-xl font-semibold">
        <span aria-hidden="true">▲ </span>
        {report.model} fits {place(answer.chosen ?? 1, device)}
      </h3>
      <MemoryBar
        parts={parts.filter(([, size]) => size > 0)}
        total={device.memory}
        label={`${bytes(taken)} of ${bytes(device.memory)} of each device`}
      />
      {(figures.copied_kv_bytes_per_token ?? 0) > 0 && (
        <p className="mt-3 text-sm">
          Key and value heads are fewer than devices and copied, which takes{" "}
          {bytes(figures.copied_kv_bytes_per_token ?? 0)} more for each token on all of them.
        </p>
      )}
      {figures.capacity && <Capacity capacity={figures.capacity} width={report.width} />}
      <dl className="mt-4 grid grid-cols-2 gap-x-6 gap-y-2 sm:grid-cols-3">
        {facts.map(([name, value]) => (
          <div key={name}>
            <dt className="text-sm text-faint">{name}</dt>
            <dd className="font-mono text-lg tabular-nums">{value}</dd>
          </div>
        ))}
      </dl>
    </section>
  );
}

/** Why it does not fit, and what would do. */
function Refused({ answer }: { answer: FitAnswer }) {
  const { report, device, devices } = answer;
  const { cheapest } = report;
  const last = report.ways.findLast(({ reason }) => reason?.includes("limit"));
  const reason = report.ways.find(({ split }) => split === answer.chosen) ?? last ?? report.ways[0];
  const other = devices.find(({ name }) => name === cheapest?.device);
  return (
    <section aria-label="Verdict" className="border border-line bg-sheet p-5">
      <h3 className="mb-2 text-xl font-semibold text-red">
        <span aria-hidden="true">▼ </span>
        {report.model} does not fit {device.name}
      </h3>
      {reason && (
        <p>
          {place(reason.split, device)}: {reason.reason}
        </p>
      )}
      <p className="mt-2">
        {cheapest && other
          ? `The cheapest that does: ${place(cheapest.split, other)}.`
          : "No known device does. Use lower precisions, a shorter context or fewer users."}
      </p>
    </section>
  );
}
