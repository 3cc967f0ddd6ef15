import { useState } from "react";
import { call } from "../api/call";
import type { RestingEndpoint } from "../api/types";
import { ago } from "../figures";
import { Trouble } from "../frame/State";

/** An endpoint that is not served, and the way back. */
export function Resting({ endpoint }: { endpoint: RestingEndpoint }) {
  const [busy, setBusy] = useState(false);
  const [error, setError] = useState<Error | null>(null);
  async function start() {
    setBusy(true);
    setError(null);
    const path = `/manage/endpoints/${encodeURIComponent(endpoint.name)}/start`;
    await call(path, { method: "POST" }).catch(setError);
    setBusy(false);
  }
  return (
    <article className="border border-line bg-sheet p-5">
      <div className="flex flex-wrap items-center justify-between gap-3">
        <h3 className="text-lg font-semibold">{endpoint.name}</h3>
        <button
          type="button"
          disabled={busy}
          onClick={() => void start()}
          className="bg-ink px-4 py-1.5 text-paper disabled:opacity-50"
        >
          {busy ? "Starting…" : "Start"}
        </button>
      </div>
      <p
        role={endpoint.state === "failed" ? "alert" : "status"}
        className={`mt-3 border-l-4 px-3 py-2 ${endpoint.state === "failed" ? "border-red" : "border-line"}`}
      >
        {endpoint.state} for {ago(endpoint.seconds)}: {endpoint.why}.
      </p>
      {error && (
        <div className="mt-3">
          <Trouble error={error} />
        </div>
      )}
    </article>
  );
}
