import { deviceName } from "../numbers";

/** So many devices of a kind, for people. */
export function place(split: number, device: { name: string; simulated: boolean }): string {
  const name = deviceName({ device: device.name, simulated: device.simulated });
  return device.simulated ? `${split} × ${name}` : name;
}
