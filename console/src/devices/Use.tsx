import type { DeviceOwner, DeviceStatus } from "../api/types";
import { Chart, CLOCK } from "../chart/Chart";
import { useTrack } from "../endpoint/useTrack";

/** How far back is looked, in seconds. */
const SPAN = 600;

/** How busy a replica kept its devices, and what they drew for it, over the last minutes. */
export function Use({ device, owner }: { device: DeviceStatus; owner: DeviceOwner }) {
  const track = useTrack(owner.endpoint, SPAN);
  const end = track.at.at(-1) ?? Date.now() / 1000;
  const range: [number, number] = [end - SPAN, end];
  const count = device.places.filter((place) =>
    place.owners.some(({ incarnation }) => incarnation === owner.incarnation),
  ).length;
  const { power } = device;
  const watts = (share: number | null) =>
    share === null || !power
      ? null
      : count * (power.idle + (share / 100) * (power.busy - power.idle));
  return (
    <div className="mt-5 grid gap-x-8 gap-y-4 lg:grid-cols-2">
      <Chart
        title={`Busy with ${owner.endpoint}`}
        unit="%"
        along={CLOCK}
        x={track.at}
        range={range}
        curves={[{ name: "busy", color: "--color-ink", values: track.busy }]}
      />
      {power && (
        <Chart
          title={`Power of its ${count === 1 ? "device" : `${count} devices`}, as the profile says`}
          unit="W"
          along={CLOCK}
          x={track.at}
          range={range}
          curves={[{ name: "power", color: "--color-red", values: track.busy.map(watts) }]}
        />
      )}
    </div>
  );
}
