import { useSearchParams } from "react-router";
import { useLive } from "../api/useLive";
import { Empty } from "../frame/State";
import { FirstSteps } from "./FirstSteps";
import { useFirstSteps } from "./useFirstSteps";
import { Resting } from "./Resting";
import { EndpointPanel } from "./EndpointPanel";

const WINDOWS = [
  [60, "1 min"],
  [600, "10 min"],
  [3600, "1 h"],
  [6 * 3600, "6 h"],
  [24 * 3600, "1 day"],
] as const;

/** Is anything wrong now, and where? */
export function Watch() {
  const { status } = useLive();
  const [first, setFirst] = useFirstSteps(status);
  const [query, setQuery] = useSearchParams();
  const seconds = Number(query.get("seconds")) || 60;
  if (!status) return <Empty>Connecting to the service…</Empty>;
  if (first)
    return <FirstSteps served={status.endpoints.length > 0} onDone={() => setFirst(false)} />;
  return (
    <div className="flex flex-col gap-6">
      <div className="flex flex-wrap items-center justify-between gap-3">
        <h2 className="text-lg font-semibold">Watch</h2>
        <div role="group" aria-label="Time range" className="flex border border-ink/60">
          {WINDOWS.map(([value, name]) => (
            <button
              key={value}
              type="button"
              aria-pressed={seconds === value}
              onClick={() => setQuery({ seconds: String(value) }, { replace: true })}
              className={`px-3 py-1 text-sm ${seconds === value ? "bg-ink text-paper" : ""}`}
            >
              {name}
            </button>
          ))}
        </div>
      </div>
      {status.endpoints.map((endpoint) => (
        <EndpointPanel key={endpoint.name} endpoint={endpoint} seconds={seconds} />
      ))}
      {status.resting?.map((endpoint) => (
        <Resting key={endpoint.name} endpoint={endpoint} />
      ))}
    </div>
  );
}
