import { useEffect } from "react";
import { useSearchParams } from "react-router";
import { call } from "../api/call";
import type { LoadStatus } from "../api/types";
import { useAnswer } from "../api/useAnswer";
import { names } from "../api/names";
import { useLive } from "../api/useLive";
import { live } from "../api/live";
import { Empty, Trouble } from "../frame/State";
import { LoadForm } from "./LoadForm";
import type { RunEntry } from "./run";
import { RunList } from "./RunList";
import { Shown } from "./Shown";
import { UnderWay } from "./UnderWay";

/** Most runs that are laid over each other. */
const MOST = 4;

/** What happens at N users? */
export function Load() {
  const { status, load } = useLive();
  const [query, setQuery] = useSearchParams();
  const runs = useAnswer<RunEntry[]>("/manage/runs?most=50&short=true");
  const chosen = (query.get("runs") ?? "").split(",").filter((id) => id !== "");
  const ended = load?.run;
  // What was under way before this page was opened.
  useEffect(() => {
    if (live.load) return;
    call<LoadStatus | null>("/manage/load").then(
      (load) => live.heardOfLoad(load),
      () => {},
    );
  }, []);
  const { again } = runs;
  useEffect(() => {
    if (ended) again();
  }, [ended, again]);

  function choose(ids: string[]) {
    const kept = ids.slice(-MOST);
    setQuery(kept.length > 0 ? { runs: kept.join(",") } : {}, { replace: true });
  }

  if (!status) return <Empty>Connecting to the service…</Empty>;
  const busy = load?.state === "warming" || load?.state === "sending";
  return (
    <div className="flex flex-col gap-5">
      <h2 className="text-lg font-semibold">Load</h2>
      {status.endpoints.length === 0 ? (
        <Empty>There are no endpoints. Deploy one first.</Empty>
      ) : (
        <div className="grid items-start gap-5 lg:grid-cols-[3fr_2fr]">
          <LoadForm
            models={names(status.endpoints.map(({ name, simulated }) => ({ id: name, simulated })))}
            busy={busy}
          />
          <UnderWay load={load} endpoints={status.endpoints} onShow={(id) => choose([id])} />
        </div>
      )}
      {runs.error && <Trouble error={runs.error} again={runs.again} />}
      {runs.value?.length === 0 && (
        <Empty>
          No runs yet. Start a load test above, or with{" "}
          <code className="font-mono">vastrelay load run</code>.
        </Empty>
      )}
      {chosen.length > 0 && <Shown ids={chosen} />}
      {runs.value && runs.value.length > 0 && (
        <RunList entries={runs.value} chosen={chosen} onChoose={choose} onChange={again} />
      )}
    </div>
  );
}
