import type { ModelStatus } from "../api/types";
import { bytes } from "../figures";

/** Memory by owner, adding up to what the model may take. */
export function Memory({ model }: { model: ModelStatus }) {
  const { memory } = model;
  // Pages are counted of the pool that runs out first; where there are others, they are at most as full.
  const share = (pages: number) => (memory.kv_pool * pages) / Math.max(1, model.pages_total);
  const used = share(model.pages_used);
  const cached = share(model.pages_cached);
  const taken = memory.weights + memory.workspace + memory.kv_pool;
  const parts = [
    ["weights", memory.weights, "bg-ink"],
    ["workspace", memory.workspace, "bg-faint"],
    ["KV in use", used, "bg-green"],
    ["KV for reuse", cached, "bg-lamp"],
    ["KV free", memory.kv_pool - used - cached, "bg-shoal"],
  ] as const;
  return (
    <section className="mt-5">
      <h4 className="text-sm text-faint">
        Memory: <span className="font-mono text-ink">{bytes(taken)}</span> of{" "}
        <span className="font-mono text-ink">{bytes(memory.budget)}</span> limit
      </h4>
      <div
        className="mt-2 flex h-4 border border-ink/60"
        role="img"
        aria-label={`${bytes(taken)} by owner`}
      >
        {parts.map(([name, size, color]) => (
          <span key={name} className={color} style={{ width: `${(100 * size) / taken}%` }} />
        ))}
      </div>
      <ul className="mt-2 flex flex-wrap gap-x-6 gap-y-1 text-sm">
        {parts.map(([name, size, color]) => (
          <li key={name} className="flex items-center gap-2">
            <span
              className={`inline-block size-3 border border-ink/60 ${color}`}
              aria-hidden="true"
            />
            {name} <span className="font-mono tabular-nums">{bytes(size)}</span>
          </li>
        ))}
      </ul>
    </section>
  );
}
