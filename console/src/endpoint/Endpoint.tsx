import { lazy, Suspense, useEffect } from "react";
import { Link, useParams, useSearchParams } from "react-router";
import type { EndpointDetail } from "../api/types";
import { useAnswer } from "../api/useAnswer";
import { useLive } from "../api/useLive";
import { ago } from "../numbers";
import { Buoy } from "../frame/Buoy";
import { Empty, Trouble } from "../frame/State";
import { Actions } from "./Actions";
import { Costs } from "./Costs";
import { Events } from "./Events";
import { Metrics } from "./Metrics";
import { Releases } from "./Releases";
import { Starts } from "./Starts";
import { useEvents } from "./useEvents";
import { WorkerLog } from "./WorkerLog";

// An editor is large, and few need it.
const SpecPanel = lazy(() => import("../spec/SpecPanel"));

const WINDOWS = [
  [60, "1 min"],
  [600, "10 min"],
  [3600, "1 h"],
  [6 * 3600, "6 h"],
  [24 * 3600, "1 day"],
] as const;

/** What is it doing, how did it come up, what changed last? */
export function Endpoint() {
  const { endpoint: name = "" } = useParams();
  const { status } = useLive();
  const [query, setQuery] = useSearchParams();
  const seconds = Number(query.get("seconds")) || 60;
  const served = status?.endpoints.find((endpoint) => endpoint.name === name);
  const resting = status?.resting?.find((endpoint) => endpoint.name === name);
  const events = useEvents(name, served ? [served] : []);
  const { value, error, again } = useAnswer<EndpointDetail>(
    `/manage/endpoints/${encodeURIComponent(name)}`,
  );
  // A new state or release may come with another spec. An endpoint that drains may be gone for good in a moment.
  const standing = `${served?.state} ${served?.release} ${resting?.state}`;
  const state = served?.state ?? resting?.state;
  const isThere = state !== undefined && state !== "draining";
  useEffect(() => {
    if (isThere) again();
  }, [standing, isThere, again]);
  if (error && !state) return <Trouble error={error} again={again} />;
  if (!status || !value) return <Empty>Loading…</Empty>;
  return (
    <div className="flex flex-col gap-5">
      <div className="flex flex-wrap items-center justify-between gap-3">
        <h2 className="flex items-center gap-3 text-lg font-semibold">
          {name}
          <span className="flex items-center gap-1.5 text-base font-normal" role="status">
            <Buoy state={state ?? value.state} /> {state ?? value.state}
          </span>
        </h2>
        <Actions name={name} served={served !== undefined} />
      </div>
      {resting && (
        <p
          role={resting.state === "failed" ? "alert" : "status"}
          className={`border-l-4 bg-sheet px-3 py-2 ${resting.state === "failed" ? "border-red" : "border-line"}`}
        >
          {resting.state} for {ago(resting.seconds)}: {resting.why}.
        </p>
      )}
      {value.coming && (
        <p role="status" className="border-l-4 border-lamp bg-sheet px-3 py-2">
          Release {value.coming.release} is being started to take its place.
        </p>
      )}
      {served && (
        <>
          <div className="flex flex-wrap items-center justify-between gap-3">
            <div role="group" aria-label="Time range" className="flex border border-ink/60">
              {WINDOWS.map(([value, label]) => (
                <button
                  key={value}
                  type="button"
                  aria-pressed={seconds === value}
                  onClick={() => setQuery({ seconds: String(value) }, { replace: true })}
                  className={`px-3 py-1 text-sm ${seconds === value ? "bg-ink text-paper" : ""}`}
                >
                  {label}
                </button>
              ))}
            </div>
            <Link
              className="underline underline-offset-4"
              to={`/console/try?model=${encodeURIComponent(name)}`}
            >
              ask it something
            </Link>
          </div>
          <Metrics endpoint={served} seconds={seconds} events={events} />
        </>
      )}
      <div className="grid gap-5 lg:grid-cols-2">
        <div className="border border-line bg-sheet p-5">
          <Starts starts={value.starts ?? []} />
        </div>
        <div className="border border-line bg-sheet p-5">
          <Releases detail={value} onChange={again} />
        </div>
      </div>
      <div className="grid gap-5 lg:grid-cols-2">
        <div className="min-w-0 border border-line bg-sheet p-5">
          <Events events={events} />
        </div>
        <div className="min-w-0 border border-line bg-sheet p-5">
          <WorkerLog name={name} />
        </div>
      </div>
      {served && <Costs name={name} release={served.release} />}
      {value.spec && (
        <Suspense fallback={<Empty>Loading the editor…</Empty>}>
          <SpecPanel
            name={name}
            text={value.spec}
            beside={value.beside}
            from={served?.release}
            onDeployed={again}
          />
        </Suspense>
      )}
    </div>
  );
}
