import { call } from "../api/call";
import { grouped, timing } from "../numbers";
import { Confirm } from "../frame/Confirm";
import { arrivalWords, type RunEntry } from "./run";

/** The runs that are kept; those that are ticked are laid over each other. */
export function RunList({
  entries,
  chosen,
  onChoose,
  onChange,
}: {
  entries: RunEntry[];
  chosen: string[];
  onChoose: (ids: string[]) => void;
  /** Called when runs were removed. */
  onChange: () => void;
}) {
  const selected = entries.filter(({ id }) => chosen.includes(id));
  async function remove() {
    for (const { id } of selected) {
      await call(`/manage/runs/${encodeURIComponent(id)}`, { method: "DELETE" });
    }
    onChoose([]);
    onChange();
  }
  return (
    <section>
      <div className="mb-2 flex min-h-8 items-center justify-between gap-3">
        <h3 className="text-sm text-faint">Saved runs: select up to four to compare</h3>
        {selected.length > 0 && (
          <Confirm
            name="Remove selected runs"
            title={selected.length === 1 ? "Remove this run?" : `Remove ${selected.length} runs?`}
            action="Remove"
            destroys
            act={remove}
          >
            {`${selected.map(({ run }) => run.name).join(", ")}: figures and requests are deleted for good.`}
          </Confirm>
        )}
      </div>
      <div className="relative overflow-x-auto border border-line bg-sheet">
        <table className="w-full border-collapse font-mono text-sm tabular-nums">
          <thead>
            <tr className="border-b border-ink/60 text-left">
              {[
                "",
                "begun",
                "name",
                "arrivals",
                "done",
                "tokens/s",
                "TTFT p50",
                "TTFT p99",
                "ITL p50",
                "queue",
              ].map((head, column) => (
                <th
                  key={head}
                  scope="col"
                  className={`px-3 py-2 font-medium whitespace-nowrap ${column > 3 ? "text-right" : ""}`}
                >
                  {head || <span className="sr-only">shown</span>}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {entries.map(({ id, at_ms, run }) => {
              const { summary } = run;
              const ticked = chosen.includes(id);
              return (
                <tr key={id} className="border-b border-line whitespace-nowrap hover:bg-shoal">
                  <td className="px-3 py-1">
                    <input
                      type="checkbox"
                      name={`run-${id}`}
                      aria-label={`Select ${run.name} of ${new Date(at_ms).toLocaleString("en-GB")}`}
                      checked={ticked}
                      onChange={() =>
                        onChoose(ticked ? chosen.filter((one) => one !== id) : [...chosen, id])
                      }
                    />
                  </td>
                  <td className="px-3 py-1">{new Date(at_ms).toLocaleString("en-GB")}</td>
                  <td className="max-w-72 truncate px-3 py-1 font-sans" title={run.name}>
                    {run.name}
                  </td>
                  <td className="px-3 py-1">{arrivalWords(run)}</td>
                  {[
                    grouped(summary.done),
                    grouped(Math.round(summary.output_rate)),
                    timing(summary.ttft.p50),
                    timing(summary.ttft.p99),
                    timing(summary.itl.p50),
                    summary.deepest_queue === null ? "–" : grouped(summary.deepest_queue),
                  ].map((value, column) => (
                    <td key={column} className="px-3 py-1 text-right">
                      {value}
                    </td>
                  ))}
                </tr>
              );
            })}
          </tbody>
        </table>
      </div>
    </section>
  );
}
