const BETWEEN = ["connecting", "starting", "draining", "degraded"];
const ASLEEP = ["parked", "stopped"];

/**
 * A buoy for a state in words: never colour alone. A triangle is well, a square is not, a circle is in between; an
 * empty circle is away for a while.
 */
export function Buoy({ state }: { state: string }) {
  const well = state === "ready";
  const between = BETWEEN.includes(state);
  const asleep = ASLEEP.includes(state);
  return (
    <svg width="14" height="14" viewBox="0 0 14 14" aria-hidden="true" className="shrink-0">
      {well && <path d="M7 1 13 13H1Z" fill="var(--color-green)" />}
      {between && <circle cx="7" cy="7" r="6" fill="var(--color-lamp)" />}
      {asleep && (
        <circle cx="7" cy="7" r="5" fill="none" stroke="var(--color-faint)" strokeWidth="2" />
      )}
      {!well && !between && !asleep && (
        <rect x="1" y="1" width="12" height="12" fill="var(--color-red)" />
      )}
    </svg>
  );
}
