import type { Busy } from "../api/busy";
import type { DevicePlace, DeviceStatus, ReplicaStatus } from "../api/types";
import { bytes, hundredths } from "../numbers";
import { MemoryBar } from "../frame/MemoryBar";

/** One device: its memory by owner, adding up to what it has, and how busy it is. */
export function Place({
  device,
  place,
  last,
  replicas,
  busy,
}: {
  device: DeviceStatus;
  place: DevicePlace;
  /** The number of the last of several that are empty alike. */
  last: number;
  replicas: ReplicaStatus[];
  busy: Busy;
}) {
  const owners = place.owners.map((owner) => {
    const replica = replicas.find((replica) => replica.incarnation === owner.incarnation);
    const { pages_used: used = 0, pages = 0 } = replica?.occupancy ?? {};
    const kvUsed = pages > 0 ? (owner.kv_reserved * used) / pages : owner.kv_used;
    return { ...owner, kvUsed, share: busy.share(owner.incarnation) ?? owner.busy_share };
  });
  const sum = (part: (owner: (typeof owners)[number]) => number) =>
    owners.reduce((all, owner) => all + part(owner), 0);
  const kvUsed = sum((owner) => owner.kvUsed);
  const share = Math.min(
    1,
    sum((owner) => owner.share),
  );
  const parts = [
    ["weights", sum((owner) => owner.weights), "bg-ink"],
    ["workspace, process", sum((owner) => owner.workspace + owner.process), "bg-faint"],
    ["KV used", kvUsed, "bg-green"],
    ["KV reserved", sum((owner) => owner.kv_reserved) - kvUsed, "bg-shoal"],
    ["replicas that come or go", place.changing ?? 0, "bg-line"],
    ["other programs", place.others, "bg-lamp"],
    ["free", place.free, "bg-paper"],
  ] as const;
  const power = device.power && device.power.idle + share * (device.power.busy - device.power.idle);
  return (
    <li className="grid gap-x-4 gap-y-1 md:grid-cols-[3.5rem_1fr_14rem]">
      <p className="font-mono text-sm">
        {last > place.number ? `${place.number} to ${last}` : place.number}
      </p>
      <div>
        <MemoryBar
          parts={parts.filter(([name, size]) => size > 0 || name === "free")}
          total={device.memory}
          label={`Device ${place.number}${last > place.number ? ` to ${last}` : ""}: ${bytes(place.free)} free of ${bytes(device.memory)}`}
        />
      </div>
      <div className="text-sm">
        <p className="font-mono tabular-nums">
          {last > place.number && "each "}busy {Math.round(share * 100)} %
          {power != null && ` · ${Math.round(power)} W`}
        </p>
        {owners.map((owner) => (
          <p key={owner.incarnation} className="text-faint">
            {owner.endpoint}, release {owner.release}, replica {owner.replica}
            {!!owner.cores && `, ${hundredths(owner.cores)} of ${device.cores} cores`}
            {owner.weights_of && `; its weights are those of ${owner.weights_of}`}
          </p>
        ))}
      </div>
    </li>
  );
}
