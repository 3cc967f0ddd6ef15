import type { LogLine } from "../api/types";
import { useAnswer } from "../api/useAnswer";

/** The log is asked for again so often, in milliseconds. */
const AGAIN = 3000;

/** What an endpoint's workers, and conversions of its model, have said last, apart from what the service did with them. */
export function WorkerLog({ name }: { name: string }) {
  const { value } = useAnswer<LogLine[]>(
    `/manage/endpoints/${encodeURIComponent(name)}/log?most=200`,
    AGAIN,
  );
  return (
    <section aria-label="Workers' log">
      <h3 className="font-medium">What its workers and builds said</h3>
      {value?.length === 0 && <p className="mt-1 text-sm text-faint">Nothing yet.</p>}
      {value && value.length > 0 && (
        <ol tabIndex={0} className="mt-1 max-h-56 overflow-y-auto font-mono text-xs">
          {value.map(({ at_ms, replica, incarnation, line }, place) => (
            <li key={place} className="flex gap-3 border-t border-line py-0.5">
              <time className="text-faint" dateTime={new Date(at_ms).toISOString()}>
                {new Date(at_ms).toLocaleTimeString("en-GB")}
              </time>
              <span className="whitespace-nowrap text-faint">
                {incarnation === 0 ? "build" : `${replica}, life ${incarnation}`}
              </span>
              <span className="min-w-0 break-words">{line}</span>
            </li>
          ))}
        </ol>
      )}
    </section>
  );
}
