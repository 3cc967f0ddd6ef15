import { useState } from "react";
import { useNavigate } from "react-router";
import { call } from "../api/call";
import { change } from "../api/change";
import { live } from "../api/live";
import { Confirm } from "../frame/Confirm";
import { Trouble } from "../frame/State";

/** What can be done to an endpoint. */
export function Actions({ name, served }: { name: string; served: boolean }) {
  const path = `/manage/endpoints/${encodeURIComponent(name)}`;
  const navigate = useNavigate();
  return (
    <div className="flex flex-wrap items-center gap-2">
      {served ? (
        <>
          <Confirm
            name="Park"
            title={`Park ${name}?`}
            action={`Park ${name}`}
            act={() => call(`${path}/park`, { method: "POST", body: "{}" })}
          >
            It gives its memory back. Requests that run have a minute to end. The next request
            starts it again and waits until it is ready.
          </Confirm>
          <Confirm
            name="Stop"
            title={`Stop ${name}?`}
            action={`Stop ${name}`}
            act={() => call(`${path}/stop`, { method: "POST", body: "{}" })}
          >
            New requests are refused until it is started again. Those that run have a minute to end.
            Its spec is kept.
          </Confirm>
        </>
      ) : (
        <Start path={path} />
      )}
      <Confirm
        name="Remove"
        title={`Remove ${name}?`}
        action={`Remove ${name}`}
        destroys
        act={async () => {
          await call(path, { method: "DELETE" });
          void navigate("/console/watch");
          live.removed(name);
        }}
      >
        Its spec is deleted, with the times of its starts. Answers that are under way are completed.
        The model&apos;s files, records, keys and runs stay.
      </Confirm>
    </div>
  );
}

function Start({ path }: { path: string }) {
  const [busy, setBusy] = useState(false);
  const [error, setError] = useState<Error | null>(null);
  async function start() {
    setBusy(true);
    setError(null);
    await change(`${path}/start`, { method: "POST" }).catch(setError);
    setBusy(false);
  }
  return (
    <>
      <button
        type="button"
        disabled={busy}
        onClick={() => void start()}
        className="border border-ink bg-ink px-3 py-0.5 text-sm text-paper disabled:opacity-50"
      >
        {busy ? "Starting…" : "Start"}
      </button>
      {error && <Trouble error={error} />}
    </>
  );
}
