import { Figure } from "./Figure";
import { grouped } from "./figures";
import type { ModelStatus } from "./status";

/** One model at a glance: its lanes, its queue, its KV pages, and what it has done. */
export function ModelChart({ model }: { model: ModelStatus }) {
  return (
    <article className="border border-line bg-sheet p-5">
      <div className="flex flex-wrap items-baseline justify-between gap-2">
        <h2 className="text-lg font-semibold">{model.name}</h2>
        <p className="font-mono text-xs text-faint">
          {grouped(model.parameters)} parameters · {model.device}, {model.cores} ×{" "}
          {model.instructions}
        </p>
      </div>
      {model.failure && (
        <p role="alert" className="mt-3 border-l-4 border-red px-3 py-2">
          The engine has stopped: {model.failure}. Restart the service.
        </p>
      )}
      <Lanes used={model.lanes_used} width={model.width} />
      <Pages used={model.pages_used} cached={model.pages_cached} total={model.pages_total} />
      <dl className="mt-5 grid grid-cols-2 gap-x-6 gap-y-4 sm:grid-cols-3">
        <Figure
          name="queue depth"
          value={`${grouped(model.queue_depth)} of ${grouped(model.queue_limit)}`}
          meaning="Requests accepted and not yet in the batch, and how many may wait."
        />
        <Figure
          name="steps"
          value={grouped(model.steps)}
          meaning="Passes of the model over a batch since the service started."
        />
        <Figure
          name="preempted"
          value={grouped(model.preemptions)}
          meaning="Sequences that were put back in the queue to free pages, and resumed later."
        />
        <Figure
          name="tokens in"
          value={grouped(model.prefill_tokens)}
          meaning="Prompt tokens computed since the service started; reused ones are not counted."
        />
        <Figure
          name="tokens out"
          value={grouped(model.output_tokens)}
          meaning="Tokens produced since the service started."
        />
        <Figure
          name="context"
          value={`${grouped(model.context)} tokens`}
          meaning="Most tokens of one sequence, prompt plus output."
        />
      </dl>
    </article>
  );
}

function Lanes({ used, width }: { used: number; width: number }) {
  return (
    <div className="mt-4">
      <p className="mb-1 flex justify-between text-sm">
        <span>Lanes in use</span>
        <span className="font-mono">
          {used} of {width}
        </span>
      </p>
      <div className="flex h-6 gap-0.5" role="img" aria-label={`${used} of ${width} lanes in use`}>
        {Array.from({ length: width }, (_, lane) => (
          <span
            key={lane}
            className={`flex-1 border border-ink/50 ${lane < used ? "bg-ink" : "bg-transparent"}`}
          />
        ))}
      </div>
    </div>
  );
}

function Pages({ used, cached, total }: { used: number; cached: number; total: number }) {
  const share = (pages: number) => `${(100 * pages) / total}%`;
  return (
    <div className="mt-4">
      <p className="mb-1 flex justify-between text-sm">
        <span>KV pages in use, and kept for reuse</span>
        <span className="font-mono">
          {grouped(used)} + {grouped(cached)} of {grouped(total)}
        </span>
      </p>
      <div
        className="flex h-3 border border-ink/50"
        role="img"
        aria-label={`${used} KV pages in use and ${cached} kept for reuse of ${total}`}
      >
        <span className="bg-ink" style={{ width: share(used) }} />
        <span className="bg-shoal" style={{ width: share(cached) }} />
      </div>
    </div>
  );
}
