import type { FitAnswer } from "../api/types";
import { bytes, grouped, timing } from "../numbers";

/** Each number of devices: whether it does, and why not. */
export function Splits({
  answer,
  onChoose,
}: {
  answer: FitAnswer;
  onChoose: (split: number) => void;
}) {
  const heads = [
    ["devices", "text-left"],
    ["", "text-left"],
    ["weights each", "text-right"],
    ["full at once", "text-right"],
    ["typical at once", "text-right"],
    ["ITL", "text-right"],
    ["tokens/s", "text-right"],
  ] as const;
  return (
    <section aria-label="Splits" className="border border-line bg-sheet p-5">
      <h3 className="mb-2 text-sm text-faint">Numbers of devices that one replica spans</h3>
      <div className="relative overflow-x-auto">
        <table className="w-full border-collapse text-sm">
          <thead>
            <tr className="border-b border-ink/60">
              {heads.map(([head, side]) => (
                <th key={head} scope="col" className={`px-2 py-1 font-medium ${side}`}>
                  {head || <span className="sr-only">verdict</span>}
                </th>
              ))}
            </tr>
          </thead>
          <tbody className="font-mono tabular-nums">
            {answer.report.ways.map((way) => (
              <tr
                key={way.split}
                className={`border-b border-line ${way.split === answer.chosen ? "bg-shoal" : ""}`}
              >
                <td className="px-2 py-1">{way.split}</td>
                {way.reason == null && way.predicted ? (
                  <>
                    <td className="px-2 py-1 font-sans">
                      <button
                        type="button"
                        aria-pressed={way.split === answer.chosen}
                        onClick={() => onChoose(way.split)}
                        className="underline underline-offset-4"
                      >
                        ▲ fits
                      </button>
                    </td>
                    {[
                      bytes(way.weights_bytes ?? 0),
                      grouped(way.capacity?.full.at_once ?? 0),
                      grouped(way.capacity?.typical.at_once ?? 0),
                      timing(way.predicted.itl),
                      grouped(Math.round(way.predicted.tokens_per_second)),
                    ].map((value, column) => (
                      <td key={column} className="px-2 py-1 text-right whitespace-nowrap">
                        {value}
                      </td>
                    ))}
                  </>
                ) : (
                  <td colSpan={6} className="px-2 py-1 font-sans text-faint">
                    ▼ {way.reason}
                  </td>
                )}
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    </section>
  );
}
