import { timing } from "../numbers";
import type { Token } from "./stream";

/** Each token of an answer as a bar: how long it took to come, and on hover how probable it was. */
export function Gaps({ tokens }: { tokens: Token[] }) {
  if (tokens.length < 2) return null;
  const gaps = tokens.map((token, index) => token.at - (tokens[index - 1]?.at ?? 0)).slice(1);
  const most = Math.max(...gaps, 1);
  const share = (logprob: number) => `${(100 * Math.exp(logprob)).toFixed(1)} %`;
  return (
    <figure className="mt-3">
      <figcaption className="text-sm text-faint">
        Gaps between tokens as they arrived at this page, max {timing(most / 1000)}
      </figcaption>
      <div
        className="mt-1 flex h-12 items-end gap-px overflow-hidden border-b border-ink/60"
        role="img"
        aria-label={`${gaps.length} gaps, the largest ${timing(most / 1000)}`}
      >
        {gaps.map((gap, index) => {
          const token = tokens[index + 1]!;
          const others = token.others
            .map((other) => `${JSON.stringify(other.token)} ${share(other.logprob)}`)
            .join("\n");
          return (
            <span
              key={index}
              className="max-w-2 min-w-px flex-1 bg-ink"
              style={{ height: `${Math.max(4, (100 * gap) / most)}%` }}
              title={`${JSON.stringify(token.text)} after ${timing(gap / 1000)}, ${share(token.logprob)}\n${others}`}
            />
          );
        })}
      </div>
    </figure>
  );
}
