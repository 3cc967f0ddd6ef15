/** A whole number with thin groups of three digits. */
export function grouped(value: number): string {
  return value.toLocaleString("en-GB");
}

/** A duration in the two largest units that say something. */
export function duration(seconds: number): string {
  const s = Math.floor(seconds);
  if (s < 60) return `${s} s`;
  if (s < 3600) return `${Math.floor(s / 60)} min ${s % 60} s`;
  return `${Math.floor(s / 3600)} h ${Math.floor((s % 3600) / 60)} min`;
}

/** A duration in milliseconds, or in seconds from one on, with a sensible number of digits. */
export function timing(seconds: number): string {
  const ms = seconds * 1000;
  if (ms >= 999.5) return `${seconds.toFixed(seconds < 99.5 ? 2 : 0)} s`;
  return `${ms < 10 ? ms.toFixed(1) : Math.round(ms)} ms`;
}

/** A size in the largest binary unit that keeps it above one. */
export function bytes(size: number): string {
  const units = ["B", "KiB", "MiB", "GiB", "TiB"];
  let value = size;
  let unit = 0;
  while (value >= 1024 && unit < units.length - 1) {
    value /= 1024;
    unit += 1;
  }
  return `${unit === 0 || value >= 100 ? Math.round(value) : value.toFixed(1)} ${units[unit]}`;
}

/** A number of things, such as `1 lane` or `2 lanes`. */
export function counted(count: number, thing: string): string {
  return `${grouped(count)} ${thing}${count === 1 ? "" : "s"}`;
}

/** A price; one without a currency is in the unit of its device's profile. */
export function price(amount: number, currency?: string | null): string {
  return currency ? `${amount.toFixed(2)} ${currency}` : amount.toFixed(2);
}

/** How long ago something was, in one unit. */
export function ago(seconds: number): string {
  const s = Math.max(0, Math.floor(seconds));
  if (s < 100) return `${s} s`;
  if (s < 6000) return `${Math.floor(s / 60)} min`;
  if (s < 48 * 3600) return `${Math.floor(s / 3600)} h`;
  return `${Math.floor(s / 86400)} d`;
}

/** The name of a precision, with the weights that share a scale where they do. */
export function precisionName({
  weights,
  group,
}: {
  weights: string;
  group?: number | null;
}): string {
  return group ? `${weights}, groups of ${group}` : weights;
}

/** The name of a device; a simulated one says so. */
export function deviceName({ device, simulated }: { device: string; simulated: boolean }): string {
  return simulated ? `${device} (simulated)` : device;
}

/** A number with two decimals at most. */
export function hundredths(number: number): number {
  return Math.round(number * 100) / 100;
}

/** Where a replica runs, for people: cores with their instructions, or simulated devices. */
export function placeName(
  endpoint: { device: string; simulated: boolean },
  replica: { cores: number; instructions: string; split: number },
): string {
  const device = deviceName(endpoint);
  if (endpoint.simulated) return `${replica.split} × ${device}`;
  const shards = replica.split > 1 ? `, split over ${replica.split} shards` : "";
  const cores = replica.cores === 1 ? "1 core" : `${hundredths(replica.cores)} cores`;
  return `${device}, ${cores}, ${replica.instructions}${shards}`;
}
