import type { FitAnswer } from "../api/types";
import { bytes, grouped, timing } from "../numbers";

type Term = FitAnswer["memory"][number];

/** Each formula with its numbers, for who asks. */
export function Arithmetic({ answer }: { answer: FitAnswer }) {
  if (answer.memory.length === 0) return null;
  return (
    <details className="border border-line bg-sheet p-5">
      <summary className="cursor-pointer text-sm">The arithmetic of one device</summary>
      <div className="mt-3 grid gap-6 xl:grid-cols-2">
        <Terms title="Memory" terms={answer.memory} />
        <Terms title="A step in which all users decode, predicted" terms={answer.step} />
      </div>
    </details>
  );
}

function Terms({ title, terms }: { title: string; terms: Term[] }) {
  return (
    <div className="relative overflow-x-auto">
      <table className="w-full border-collapse text-sm">
        <caption className="text-left text-faint">{title}</caption>
        <tbody>
          {terms.map((term) => (
            <tr key={term.name} className="border-b border-line align-top">
              <th scope="row" className="py-1 pr-3 text-left font-normal whitespace-nowrap">
                {term.name}
              </th>
              <td className="py-1 pr-3 text-right font-mono whitespace-nowrap tabular-nums">
                {amount(term)}
              </td>
              <td className="py-1 text-faint">{term.formula}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

function amount({ amount, unit }: Term): string {
  if (unit === "bytes") return bytes(amount);
  return unit === "seconds" ? timing(amount) : grouped(amount);
}
