import { useState } from "react";
import { change } from "../api/change";
import type { EndpointDetail } from "../api/types";
import { ago } from "../numbers";
import { Trouble } from "../frame/State";

/** The releases of an endpoint, newest first, and the way back to each. */
export function Releases({ detail, onChange }: { detail: EndpointDetail; onChange: () => void }) {
  const [busy, setBusy] = useState<number | null>(null);
  const [error, setError] = useState<Error | null>(null);
  async function serve(release: number) {
    setBusy(release);
    setError(null);
    const body = JSON.stringify({ name: detail.name, release });
    await change("/manage/endpoints", { method: "POST", body }).catch(setError);
    setBusy(null);
    onChange();
  }
  return (
    <section aria-label="Releases">
      <h3 className="font-medium">Releases</h3>
      {error && <Trouble error={error} />}
      <ol className="mt-1 max-h-56 overflow-y-auto text-sm" tabIndex={0}>
        {detail.releases.map(({ release, seconds_ago, is_served }) => (
          <li
            key={release}
            className="flex items-center justify-between gap-3 border-t border-line py-1"
          >
            <span>
              <span className="font-mono">{release}</span>{" "}
              <span className="text-faint">of {ago(seconds_ago)} ago</span>
            </span>
            {is_served ? (
              <span>▲ served</span>
            ) : (
              <button
                type="button"
                disabled={busy !== null}
                onClick={() => void serve(release)}
                className="border border-ink px-2 text-sm disabled:opacity-50"
              >
                {busy === release ? "Starting…" : `Serve ${release} again`}
              </button>
            )}
          </li>
        ))}
      </ol>
    </section>
  );
}
