import { AskDesk } from "./AskDesk";
import { ModelChart } from "./ModelChart";
import { duration, grouped } from "./figures";
import { useStatus } from "./status";

/** The one page there is yet: how the service stands, and a desk to ask at. */
export function App() {
  const { status, connected } = useStatus();
  return (
    <div className="mx-auto flex min-h-screen max-w-6xl flex-col gap-6 px-4 py-6 sm:px-8">
      <header className="flex flex-wrap items-baseline justify-between gap-x-6 gap-y-1 border-b-2 border-ink pb-3">
        <h1 className="text-2xl font-semibold tracking-tight">Vast Relay</h1>
        <Condition connected={connected} state={status?.state} />
        <p className="font-mono text-sm text-faint">
          {status
            ? `version ${status.version} · up ${duration(status.uptime)} · ${grouped(status.calls_recorded)} calls recorded`
            : "…"}
        </p>
      </header>
      {!connected && (
        <p role="alert" className="border-l-4 border-red bg-sheet px-4 py-3">
          The service does not answer. This page looks again every second; if it was stopped,{" "}
          <code className="font-mono">vastrelay start --demo</code> starts it.
        </p>
      )}
      {status && status.models.length > 0 && (
        <main className="grid gap-6 lg:grid-cols-2">
          <section aria-label="Models" className="flex flex-col gap-6">
            {status.models.map((model) => (
              <ModelChart key={model.name} model={model} />
            ))}
          </section>
          <AskDesk models={status.models.map((model) => model.name)} />
        </main>
      )}
      {!status && connected && <p className="text-faint">Looking for the service…</p>}
    </div>
  );
}

/** A buoy with its meaning in words: never colour alone. A triangle is well, a square is not, a circle is in between. */
function Condition({ connected, state }: { connected: boolean; state?: string }) {
  const text = !connected ? "not answering" : (state ?? "looking");
  const well = text === "ready";
  const between = text === "looking" || text === "draining";
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
