import type { EndpointCheck } from "../api/types";
import { Capacity } from "../frame/Capacity";
import { bytes, deviceName, precisionName, timing } from "../numbers";
import { MemoryBar } from "../frame/MemoryBar";

/** What will happen when a spec is deployed: what changes, and what it takes of the device, by owner. */
export function Plan({ name, check }: { name: string; check: EndpointCheck }) {
  const { planned, served, is_change, needs_pause } = check;
  return (
    <section aria-label="What will happen" className="flex flex-col gap-3">
      <p>
        {served == null
          ? `${name} will be served.`
          : !is_change
            ? `${name} is served so already, as release ${served}.`
            : needs_pause
              ? `Release ${served} has to be stopped first: memory has no room for both.`
              : check.at_once
                ? `Applies at once: the worker of release ${served} goes on.`
                : `Takes over from release ${served} when it is ready; no call is lost.`}
      </p>
      {check.why && <p className="text-sm text-faint">{check.why}</p>}
      {(check.differences ?? []).length > 0 && (
        <table className="w-full border-collapse text-sm">
          <thead>
            <tr className="border-b border-ink/60 text-left">
              <th className="py-1 font-medium">key</th>
              <th className="py-1 font-medium">was</th>
              <th className="py-1 font-medium">will be</th>
            </tr>
          </thead>
          <tbody>
            {check.differences?.map(({ key, was, is }) => (
              <tr key={key} className="border-b border-line font-mono">
                <td className="py-1 pr-3">{key}</td>
                <td className="pr-3 break-all">{was ?? "–"}</td>
                <td className="break-all">{is ?? "–"}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {planned?.replicas.map(({ replica, memory, capacity, split, width }) => (
        <div key={replica}>
          <p className="text-sm text-faint">
            <span className="font-mono text-ink">{bytes(memory.reserved)}</span> of{" "}
            {planned.simulated && split > 1 && `each of ${split} × `}
            {deviceName(planned)}, of at most {bytes(memory.budget)}; weights{" "}
            {precisionName(planned.precision)}, KV {planned.precision.kv}
          </p>
          <MemoryBar
            parts={[
              ["weights", memory.weights, "bg-ink"],
              ["KV pool", memory.kv_pool, "bg-green"],
              ["workspace", memory.workspace, "bg-faint"],
              ["process", memory.process, "bg-line"],
              ["unused", Math.max(0, memory.budget - memory.reserved), "bg-shoal"],
            ]}
            total={memory.budget}
            label={`${bytes(memory.reserved)} by owner`}
          />
          {capacity && <Capacity capacity={capacity} width={width} />}
        </div>
      ))}
      {check.usual_start != null && (
        <p className="text-sm text-faint">Its starts took {timing(check.usual_start)} before.</p>
      )}
    </section>
  );
}
