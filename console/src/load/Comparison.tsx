import { useAnswer } from "../api/useAnswer";
import { timing } from "../numbers";
import { Empty, Trouble } from "../frame/State";
import type { Run } from "./run";

interface Compared {
  figures: {
    name: string;
    unit: "seconds" | "tokens-per-second";
    a: number | null;
    b: number | null;
    ratio: number | null;
    interval: [number | null, number | null] | null;
    verdict: "better" | "worse" | "noise" | "unknown";
  }[];
  differences: { what: string; a: string; b: string }[];
  warnings: string[];
}

/** What a verdict looks like: a shape besides the word. */
const VERDICTS = {
  better: "▲ better",
  worse: "▼ worse",
  noise: "○ chance alone may explain it",
  unknown: "– too little to tell",
} as const;

/** Two runs side by side: which differences are real, and what differs between the set-ups. */
export function Comparison({ a, b }: { a: Run; b: Run }) {
  const { value, error } = useAnswer<Compared>(
    `/manage/comparison?a=${encodeURIComponent(a.id)}&b=${encodeURIComponent(b.id)}`,
  );
  if (error) return <Trouble error={error} />;
  if (!value) return <Empty>Comparing…</Empty>;
  // What has nothing to be divided by has no ratio.
  const times = (ratio: number | null) => (ratio === null ? "–" : `× ${ratio.toFixed(2)}`);
  const amount = (value: number | null, unit: string) =>
    value === null
      ? "–"
      : unit === "seconds"
        ? timing(value)
        : `${value.toFixed(value < 100 ? 1 : 0)} tokens/s`;
  return (
    <section aria-label="Comparison">
      <h3 className="text-sm text-faint">
        “{b.name}” ÷ “{a.name}”, with 95 % intervals
      </h3>
      {value.warnings.map((warning) => (
        <p key={warning} className="mt-2 border-l-4 border-lamp px-3 text-sm">
          {warning}
        </p>
      ))}
      <div className="relative mt-2 overflow-x-auto">
        <table className="w-full border-collapse font-mono text-sm tabular-nums">
          <tbody>
            {value.figures.map((row) => (
              <tr key={row.name} className="border-b border-line whitespace-nowrap">
                <th scope="row" className="py-1 pr-4 text-left font-normal">
                  {row.name}
                </th>
                <td className="py-1 pr-4 text-right">{amount(row.a, row.unit)}</td>
                <td className="py-1 pr-4 text-right">{amount(row.b, row.unit)}</td>
                <td className="py-1 pr-4 text-right">{times(row.ratio)}</td>
                <td className="py-1 pr-4 text-faint">
                  {row.interval
                    ? `${row.interval[0]?.toFixed(2) ?? "–"} to ${row.interval[1]?.toFixed(2) ?? "–"}`
                    : ""}
                </td>
                <td className="py-1 font-sans">{VERDICTS[row.verdict]}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      {value.differences.length > 0 && (
        <p className="mt-3 text-sm">
          <span className="text-faint">Different settings: </span>
          {value.differences.map(({ what, a, b }) => `${what}: ${a} → ${b}`).join("; ")}
        </p>
      )}
    </section>
  );
}
