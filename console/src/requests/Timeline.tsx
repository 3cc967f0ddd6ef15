import { Link, useParams } from "react-router";
import type { CallDetail, CallMove } from "../api/types";
import { useAnswer } from "../api/useAnswer";
import { Metric } from "../Metric";
import { Empty, Trouble } from "../frame/State";
import { ago, counted, deviceName, grouped, timing } from "../numbers";
import { timelineParts, type Part } from "./parts";

/** What parts of a life are called. */
const WORDS: Record<Part["kind"], string> = {
  start: "waiting for start",
  waiting: "waiting",
  prefill: "prefill",
  tokens: "tokens",
  pause: "pause",
};
const LOOK: Record<Part["kind"], string> = {
  start: "bg-paper border-x border-ink",
  waiting: "life-waiting",
  prefill: "bg-lamp border-x border-ink",
  tokens: "bg-ink",
  pause: "life-pause",
};

/** The life of one request: waiting, prefill, tokens, pauses. */
export function Timeline() {
  const { id = "" } = useParams();
  const { value, error, again } = useAnswer<CallDetail>(
    `/manage/requests/${encodeURIComponent(id)}`,
  );
  return (
    <div className="flex flex-col gap-4">
      <p>
        <Link to="/console/requests" className="underline underline-offset-4">
          Requests
        </Link>{" "}
        / <span className="font-mono break-all">{id}</span>
      </p>
      {error && <Trouble error={error} again={again} />}
      {!value && !error && <Empty>Loading…</Empty>}
      {value && <Detail detail={value} />}
    </div>
  );
}

function Detail({ detail }: { detail: CallDetail }) {
  const { call } = detail;
  const time = (seconds: number) => (seconds > 0 ? timing(seconds) : "–");
  const failed = call.status >= 400;
  return (
    <article className="border border-line bg-sheet p-5">
      <h2 className="text-lg font-semibold">
        {call.operation} to {call.endpoint || "no endpoint"}
        {call.replica > 0 &&
          ` (release ${call.release}, replica ${call.replica} on ${deviceName(call)})`}
        {call.caller && ` by ${call.caller}`}, {ago(call.seconds_ago)} ago
      </h2>
      <p className={failed ? "text-red" : "text-faint"}>
        {failed ? "✕ " : ""}
        {call.outcome} ({call.status})
        {call.client_gone ? "; the caller went away before the end" : ""}
      </p>
      {call.error && <p className="mt-1 break-words">{call.error}</p>}
      <Bar detail={detail} />
      {detail.moves.length > 0 && <Moves moves={detail.moves} />}
      <dl className="mt-5 grid grid-cols-2 gap-x-6 gap-y-4 md:grid-cols-4">
        {(call.waiting_for_start ?? 0) > 0 && (
          <Metric
            name="waiting for start"
            value={time(call.waiting_for_start ?? 0)}
            meaning="Its endpoint was parked or starting."
          />
        )}
        <Metric
          name="queued"
          value={time(call.queued)}
          meaning="Until it had a lane in the batch."
        />
        <Metric
          name="prefill"
          value={time(call.prefill)}
          meaning="From the batch to the first token."
        />
        <Metric name="TTFT" value={time(call.ttft)} meaning="Time to first token, from arrival." />
        <Metric name="total" value={time(call.total)} meaning="From arrival to the end." />
        <Metric
          name="ITL p50"
          value={time(call.itl_p50)}
          meaning="Median of the gaps between tokens."
        />
        <Metric
          name="ITL p99"
          value={time(call.itl_p99)}
          meaning="99th percentile of the gaps between tokens."
        />
        <Metric
          name="largest gap"
          value={time(call.itl_max)}
          meaning="The largest gap between two tokens."
        />
        <Metric
          name="preempted"
          value={counted(call.preemptions, "time")}
          meaning="How often it was put back in the queue."
        />
        <Metric
          name="tokens in"
          value={grouped(call.prompt_tokens)}
          meaning="Tokens of the prompt."
        />
        <Metric
          name="reused"
          value={grouped(call.reused_tokens)}
          meaning="Prompt tokens found in the cache."
        />
        <Metric name="tokens out" value={grouped(call.output_tokens)} meaning="Tokens produced." />
        <Metric
          name="streamed"
          value={call.streamed ? "yes" : "no"}
          meaning="Whether the answer was streamed."
        />
      </dl>
      <h3 className="mt-5 text-sm text-faint">Parameters</h3>
      <pre className="mt-1 overflow-x-auto bg-shoal px-3 py-2 font-mono text-sm">
        {JSON.stringify(detail.parameters, null, 2)}
      </pre>
      {detail.text ? (
        <>
          <h3 className="mt-4 text-sm text-faint">Prompt</h3>
          <pre className="mt-1 bg-shoal px-3 py-2 font-mono text-sm whitespace-pre-wrap">
            {detail.text.prompt}
          </pre>
          <h3 className="mt-4 text-sm text-faint">Answer</h3>
          <p className="mt-1 bg-shoal px-3 py-2 whitespace-pre-wrap">{detail.text.answer}</p>
        </>
      ) : (
        <p className="mt-4 text-sm text-faint">
          Prompt and answer are not recorded;{" "}
          <code className="font-mono">vastrelay start --record-texts</code> records them.
        </p>
      )}
    </article>
  );
}

/** How the request went from worker to worker. */
function Moves({ moves }: { moves: CallMove[] }) {
  return (
    <ul className="mt-4 flex flex-col gap-1" data-moves>
      {moves.map((move) => (
        <li key={move.after} className="border-l-4 border-lamp px-3">
          <span aria-hidden="true">⤷</span> After{" "}
          <span className="font-mono">{timing(move.after)}</span> and {grouped(move.tokens)}{" "}
          {move.tokens === 1 ? "token" : "tokens"} it went on with another worker: {move.why}.
        </li>
      ))}
    </ul>
  );
}

function Bar({ detail }: { detail: CallDetail }) {
  const parts = timelineParts(detail);
  const total = detail.call.total || 1;
  if (parts.length === 0) return <p className="mt-4 text-faint">It ended immediately.</p>;
  return (
    <figure className="mt-6">
      <div
        data-life
        className="relative flex h-9 border border-ink/60"
        role="img"
        aria-label={parts
          .map((part) => `${WORDS[part.kind]} ${timing(part.to - part.from)}`)
          .join(", ")}
      >
        {parts.map((part) => (
          <span
            key={part.from}
            title={`${WORDS[part.kind]}, ${timing(part.to - part.from)}`}
            className={LOOK[part.kind]}
            style={{ width: `${(100 * (part.to - part.from)) / total}%` }}
          />
        ))}
        {detail.moves.map((move) => (
          <span
            key={`move ${move.after}`}
            title={`went on with another worker, ${timing(move.after)}`}
            className="absolute -top-5 -translate-x-1/2 text-lg leading-none"
            style={{ left: `${(100 * move.after) / total}%` }}
            aria-hidden="true"
          >
            ⤷
          </span>
        ))}
      </div>
      <figcaption className="mt-1 flex flex-wrap justify-between gap-x-6 text-sm text-faint">
        <span className="font-mono">0</span>
        <span className="flex flex-wrap gap-x-5">
          {(["start", "waiting", "prefill", "tokens", "pause"] as const)
            .filter((kind) => kind !== "start" || parts[0]?.kind === "start")
            .map((kind) => (
              <span key={kind} className="flex items-center gap-2">
                <span
                  className={`inline-block h-3 w-5 border border-ink/60 ${LOOK[kind]}`}
                  aria-hidden="true"
                />{" "}
                {WORDS[kind]}
              </span>
            ))}
          {detail.moves.length > 0 && <span>⤷ another worker</span>}
        </span>
        <span className="font-mono">{timing(total)}</span>
      </figcaption>
    </figure>
  );
}
