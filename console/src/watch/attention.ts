/** States in the order in which they need somebody's attention. */
const ORDER = ["failed", "degraded", "draining", "starting", "ready", "parked", "stopped"];

/** Endpoints in the order in which they need attention, then by name: who has refused something comes before who is well. */
export function byAttention<T extends { name: string; state: string; refused: number }>(
  endpoints: readonly T[],
): T[] {
  const rank = ({ state, refused }: T) => {
    const place = ORDER.indexOf(state);
    const known = place < 0 ? 0 : place;
    return refused > 0 ? Math.min(known, ORDER.indexOf("ready") - 0.5) : known;
  };
  return [...endpoints].sort((a, b) => rank(a) - rank(b) || a.name.localeCompare(b.name));
}
