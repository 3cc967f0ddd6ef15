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

/** Seconds as milliseconds with a sensible number of digits. */
export function milliseconds(seconds: number): string {
  const ms = seconds * 1000;
  return `${ms < 10 ? ms.toFixed(1) : Math.round(ms)} ms`;
}
