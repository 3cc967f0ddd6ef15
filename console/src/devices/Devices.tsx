import { useEffect } from "react";
import { Link } from "react-router";
import type { DeviceOwner, DevicePlace, DeviceStatus } from "../api/types";
import { useAnswer } from "../api/useAnswer";
import { useLive } from "../api/useLive";
import { Empty, Trouble } from "../frame/State";
import { bytes, deviceName } from "../numbers";
import { Place } from "./Place";
import { Use } from "./Use";

/** What is free, who holds what, what is busy? */
export function Devices() {
  const { status, history } = useLive();
  const { value: devices, error, again } = useAnswer<DeviceStatus[]>("/manage/devices");
  // Who is where changes only when a replica comes or goes.
  const replicas = status?.endpoints.flatMap((endpoint) => endpoint.replicas) ?? [];
  const lives = replicas.map((replica) => replica.incarnation).join();
  useEffect(() => again(), [lives, again]);
  return (
    <div className="flex flex-col gap-5">
      <h2 className="text-lg font-semibold">Devices</h2>
      {error && <Trouble error={error} again={again} />}
      {!devices && !error && <Empty>Loading…</Empty>}
      {devices?.map((device) => (
        <section key={device.name} className="border border-line bg-sheet p-5">
          <div className="flex flex-wrap items-baseline justify-between gap-2">
            <h3 className="text-lg font-semibold">
              {device.places.length} ×{" "}
              {deviceName({ device: device.name, simulated: device.simulated })}
            </h3>
            <p className="text-xs text-faint">
              <span className="font-mono">{bytes(device.memory)}</span> each; busy over the last 10
              seconds{device.power && "; power as the profile says"}
            </p>
          </div>
          {device.places.every((place) => place.owners.length === 0) && (
            <p className="mt-2 text-sm">
              No endpoint is here. Deploy one on{" "}
              <Link className="underline underline-offset-4" to="/console/watch">
                Watch
              </Link>
              .
            </p>
          )}
          <ul className="mt-4 flex flex-col gap-3">
            {rows(device.places).map(({ place, last }) => (
              <Place
                key={place.number}
                device={device}
                place={place}
                last={last}
                replicas={replicas}
                busy={history.busy}
              />
            ))}
          </ul>
          {ownersOf(device).map((owner) => (
            <Use key={owner.incarnation} device={device} owner={owner} />
          ))}
        </section>
      ))}
    </div>
  );
}

/** Every replica that is on a kind of device, once. */
function ownersOf(device: DeviceStatus): DeviceOwner[] {
  const all = device.places.flatMap((place) => place.owners);
  return [...new Map(all.map((owner) => [owner.incarnation, owner])).values()];
}

/** Devices in their order; empty ones that follow one another share a row. */
function rows(places: DevicePlace[]): { place: DevicePlace; last: number }[] {
  const isEmpty = (place: DevicePlace) => place.owners.length === 0 && place.others === 0;
  const all: { place: DevicePlace; last: number }[] = [];
  for (const place of places) {
    const before = all.at(-1);
    if (before && isEmpty(before.place) && isEmpty(place)) before.last = place.number;
    else all.push({ place, last: place.number });
  }
  return all;
}
