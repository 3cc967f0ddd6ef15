import type { ModelEntry } from "../api/types";
import { Buoy } from "../frame/Buoy";

const MEANINGS: Record<string, string> = {
  parked: "Nobody called it for a while. A question starts it and waits until it is ready.",
  starting: "It is being started. A question waits until it is ready.",
  draining: "Its worker is being replaced. A question waits for the next one.",
  stopped: "Somebody has stopped it. It answers nothing until it is started again.",
  failed: "It cannot be started.",
};

/** How an endpoint stands that does not just answer. */
export function Availability({ model }: { model: ModelEntry }) {
  const { state } = model;
  const meaning = MEANINGS[state ?? ""];
  if (!meaning) return null;
  return (
    <p
      role="status"
      data-standing={state}
      className="flex items-center gap-2 border-l-4 border-lamp px-3 py-1.5 text-sm"
    >
      <Buoy state={state ?? ""} />
      <span>
        <b className="font-medium">{state}</b>: {meaning}
      </span>
    </p>
  );
}

/** Whether an endpoint answers nothing, whatever it is asked. */
export function isAway({ state }: ModelEntry): boolean {
  return state === "stopped" || state === "failed";
}
