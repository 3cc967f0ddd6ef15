import type { ReplicaStatus } from "../api/types";
import { bytes } from "../numbers";
import { Capacity } from "../frame/Capacity";
import { MemoryBar } from "../frame/MemoryBar";

/** Memory by owner, adding up to what the replica has reserved. */
export function Memory({ replica, simulated }: { replica: ReplicaStatus; simulated: boolean }) {
  const { memory, occupancy } = replica;
  // Pages are counted of the pool that runs out first; where there are others, they are at most as full.
  const share = (pages: number) => (memory.kv_pool * pages) / Math.max(1, occupancy.pages);
  const used = share(occupancy.pages_used);
  const cached = share(occupancy.pages_cached);
  const taken = memory.reserved;
  const parts = [
    ["weights", memory.weights, "bg-ink"],
    ["workspace", memory.workspace, "bg-faint"],
    ["process", memory.process, "bg-line"],
    ["KV in use", used, "bg-green"],
    ["KV for reuse", cached, "bg-lamp"],
    ["KV free", memory.kv_pool - used - cached, "bg-shoal"],
  ] as const;
  return (
    <section className="mt-5">
      <h4 className="text-sm text-faint">
        Memory: <span className="font-mono text-ink">{bytes(taken)}</span> reserved of{" "}
        <span className="font-mono text-ink">{bytes(memory.budget)}</span> limit,{" "}
        <span className="font-mono text-ink">{bytes(memory.resident)}</span> resident
        {simulated && replica.split > 1 && `, on each of ${replica.split} devices`}
      </h4>
      <div className="mt-2">
        <MemoryBar parts={parts} total={taken} label={`${bytes(taken)} by owner`} />
      </div>
      {replica.capacity && <Capacity capacity={replica.capacity} width={replica.width} />}
    </section>
  );
}
