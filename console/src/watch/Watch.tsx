import { useSearchParams } from "react-router";
import { useLive } from "../api/useLive";
import { Empty } from "../frame/State";
import { FirstSteps } from "./FirstSteps";
import { ModelPanel } from "./ModelPanel";

const WINDOWS = [
  [60, "1 min"],
  [180, "3 min"],
  [600, "10 min"],
] as const;

/** Is anything wrong now, and where? */
export function Watch() {
  const { status, history } = useLive();
  const [query, setQuery] = useSearchParams();
  const seconds = Number(query.get("seconds")) || 60;
  if (!status) return <Empty>Looking for the service…</Empty>;
  if (status.models.length === 0) return <FirstSteps />;
  return (
    <div className="flex flex-col gap-6">
      <div className="flex flex-wrap items-center justify-between gap-3">
        <h2 className="text-lg font-semibold">Watch</h2>
        <div role="group" aria-label="Time shown" className="flex border border-ink/60">
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
      {status.models.map((model) => (
        <ModelPanel
          key={model.name}
          model={model}
          track={history.of(model.name)}
          seconds={seconds}
        />
      ))}
    </div>
  );
}
