import type { ColdStart } from "../api/types";
import { ago, timing } from "../numbers";

/** The fill of each phase: told apart by more than colour. */
const FILLS: Record<string, string> = {
  "waiting for device": "life-waiting",
  "starting worker": "bg-line",
  "verifying files": "bg-lamp",
  building: "bg-faint",
  "loading weights": "bg-ink",
  "reserving KV": "bg-green",
  "warming up": "bg-shoal",
};

/** How it came up: the phases of each start on one scale, newest first. */
export function Starts({ starts }: { starts: ColdStart[] }) {
  if (starts.length === 0) return null;
  const longest = Math.max(...starts.map(({ seconds }) => seconds));
  const phases = [...new Set(starts.flatMap(({ phases }) => phases.map(({ phase }) => phase)))];
  return (
    <section aria-label="Starts">
      <h3 className="font-medium">How it came up</h3>
      <ul className="mt-1 flex flex-wrap gap-x-4 text-sm text-faint">
        {phases.map((phase) => (
          <li key={phase} className="flex items-center gap-1.5">
            <span
              className={`inline-block size-3 border border-ink/60 ${FILLS[phase] ?? "bg-paper"}`}
              aria-hidden="true"
            />
            {phase}
          </li>
        ))}
      </ul>
      <ol className="mt-2 flex flex-col gap-1 text-sm">
        {starts.slice(0, SHOWN).map((start) => (
          <li
            key={start.incarnation}
            className="grid grid-cols-[5.5rem_1fr_4.5rem] items-center gap-x-3"
          >
            <span className="font-mono text-xs text-faint">{ago(start.seconds_ago)} ago</span>
            <span
              role="img"
              aria-label={start.phases
                .map(({ phase, seconds }) => `${phase} ${timing(seconds)}`)
                .join(", ")}
              title={start.phases
                .map(({ phase, seconds }) => `${phase} ${timing(seconds)}`)
                .join(", ")}
              className="flex h-4"
            >
              {start.phases.map(({ phase, seconds }, place) => (
                <span
                  key={place}
                  className={`border-y border-l border-ink/60 last:border-r ${FILLS[phase] ?? "bg-paper"}`}
                  style={{ width: `${(100 * seconds) / longest}%` }}
                />
              ))}
            </span>
            <span className="text-right font-mono tabular-nums">{timing(start.seconds)}</span>
            {start.failure && (
              <span className="col-span-2 col-start-2 text-red">■ {start.failure}</span>
            )}
          </li>
        ))}
      </ol>
    </section>
  );
}

const SHOWN = 8;
