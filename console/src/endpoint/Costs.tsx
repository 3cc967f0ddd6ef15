import { useEffect } from "react";
import type { EndpointCosts, SettingChoice } from "../api/types";
import { useAnswer } from "../api/useAnswer";
import { bytes, grouped, timing } from "../numbers";

/** What the settings cost in memory and, where the device's speed is known, in speed; and what other values would. */
export function Costs({ name, release }: { name: string; release: number }) {
  const { value, again } = useAnswer<EndpointCosts>(
    `/manage/endpoints/${encodeURIComponent(name)}/costs`,
  );
  useEffect(() => again(), [release, again]);
  if (!value) return null;
  const heads = [
    ["setting", "text-left"],
    ["value", "text-left"],
    ["memory", "text-right"],
    ["full at once", "text-right"],
    ...(value.predicts
      ? ([
          ["TTFT", "text-right"],
          ["ITL", "text-right"],
          ["tokens/s", "text-right"],
        ] as const)
      : []),
  ] as const;
  return (
    <section aria-label="Settings and what they cost" className="border border-line bg-sheet p-5">
      <h3 className="font-medium">Settings and what they cost</h3>
      <p className="mt-1 text-sm text-faint">
        {value.why ??
          (value.predicts
            ? `Each row changes one setting. Times are predicted for a full batch whose sequences have ${grouped(value.typical[0] ?? 0)} prompt and ${grouped(value.typical[1] ?? 0)} output tokens.`
            : "Each row changes one setting. Speed is shown where the processor was measured with as many cores.")}
      </p>
      {value.settings.length > 0 && (
        <div
          role="group"
          aria-label="Settings"
          tabIndex={0}
          className="relative mt-3 overflow-x-auto"
        >
          <table className="w-full border-collapse text-sm">
            <thead>
              <tr className="border-b border-ink/60">
                {heads.map(([head, side]) => (
                  <th key={head} scope="col" className={`px-2 py-1 font-medium ${side}`}>
                    {head}
                  </th>
                ))}
              </tr>
            </thead>
            {value.settings.map(({ key, choices }) => (
              <tbody key={key} className="border-b border-ink/60 font-mono tabular-nums">
                {choices.map((choice, index) => (
                  <Choice
                    key={choice.value}
                    setting={index === 0 ? key : ""}
                    choice={choice}
                    now={choices.find((one) => one.is_now)}
                    predicts={value.predicts}
                  />
                ))}
              </tbody>
            ))}
          </table>
        </div>
      )}
    </section>
  );
}

function Choice({
  setting,
  choice,
  now,
  predicts,
}: {
  setting: string;
  choice: SettingChoice;
  now: SettingChoice | undefined;
  predicts: boolean;
}) {
  const { predicted } = choice;
  const more = (choice.reserved ?? 0) - (now?.reserved ?? 0);
  return (
    <tr className={choice.is_now ? "bg-shoal" : ""}>
      <th scope="row" className="px-2 py-1 text-left font-normal whitespace-nowrap">
        {setting}
      </th>
      <td className="px-2 py-1 whitespace-nowrap">
        {/^\d+$/.test(choice.value) ? grouped(Number(choice.value)) : choice.value}
        {choice.is_now && <span className="font-sans"> now</span>}
      </td>
      {choice.reason != null ? (
        <td colSpan={predicts ? 5 : 2} className="px-2 py-1 font-sans">
          ▼ {choice.reason}
        </td>
      ) : (
        <>
          <td className="px-2 py-1 text-right whitespace-nowrap">
            {choice.is_now || !now
              ? bytes(choice.reserved ?? 0)
              : more === 0
                ? "the same"
                : `${more < 0 ? "−" : "+"}${bytes(Math.abs(more))}`}
          </td>
          <td className="px-2 py-1 text-right">{grouped(choice.full_sequences ?? 0)}</td>
          {predicts &&
            [
              predicted ? timing(predicted.ttft) : "–",
              predicted ? timing(predicted.itl) : "–",
              predicted ? grouped(Math.round(predicted.tokens_per_second)) : "–",
            ].map((figure, column) => (
              <td key={column} className="px-2 py-1 text-right whitespace-nowrap">
                {figure}
              </td>
            ))}
        </>
      )}
    </tr>
  );
}
