import type { Connection } from "../api/live";

/** A buoy with its meaning in words: never colour alone. A triangle is well, a square is not, a circle is in between. */
export function Condition({ connection, state }: { connection: Connection; state?: string }) {
  const words = {
    looking: "connecting",
    lost: "not answering",
    denied: "key required",
    connected: state ?? "connecting",
  };
  const text = words[connection.kind];
  const well = text === "ready";
  const between = text === "connecting" || ["draining", "degraded"].includes(text);
  return (
    <p className="flex items-center gap-2 font-medium" role="status">
      <svg width="14" height="14" viewBox="0 0 14 14" aria-hidden="true">
        {well && <path d="M7 1 13 13H1Z" fill="var(--color-green)" />}
        {between && <circle cx="7" cy="7" r="6" fill="var(--color-lamp)" />}
        {!well && !between && <rect x="1" y="1" width="12" height="12" fill="var(--color-red)" />}
      </svg>
      {text}
    </p>
  );
}
