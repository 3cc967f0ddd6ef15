import type { FitAnswer } from "../api/types";
import { Chart, type Along } from "../chart/Chart";
import { counted } from "../numbers";

const USERS: Along = { name: "users", label: (users) => counted(Math.round(users), "user") };

/** What more and more users would see, and what a token would cost: predicted. */
export function Curves({ answer }: { answer: FitAnswer }) {
  const { curve, device } = answer;
  if (curve.length < 2) return null;
  const users = curve.map(({ concurrency }) => concurrency);
  const range: [number, number] = [users[0]!, users.at(-1)!];
  const line = (name: string, value: (at: FitAnswer["curve"][number]["predicted"]) => number) => [
    { name, color: "--color-ink", values: curve.map(({ predicted }) => value(predicted)) },
  ];
  const charts = [
    ["Inter-token latency", "ms", line("ITL", ({ itl }) => itl * 1000)],
    ["Throughput", "tokens/s", line("all users", ({ tokens_per_second }) => tokens_per_second)],
    ["Time to first token", "ms", line("TTFT", ({ ttft }) => ttft * 1000)],
    [
      "Price",
      device.currency ? `${device.currency} per million tokens` : "per million tokens",
      line("price", ({ price_per_million_tokens }) => price_per_million_tokens),
    ],
  ] as const;
  return (
    <section aria-label="Curves" className="border border-line bg-sheet p-5">
      <h3 className="mb-2 text-sm text-faint">
        Against the number of users, each with typical sequences one after the other: predicted, not
        measured
      </h3>
      <div className="grid gap-x-8 gap-y-4 lg:grid-cols-2">
        {charts
          .filter(([title]) => device.price > 0 || title !== "Price")
          .map(([title, unit, curves]) => (
            <Chart
              key={title}
              title={title}
              unit={unit}
              along={USERS}
              x={users}
              range={range}
              curves={curves}
            />
          ))}
      </div>
    </section>
  );
}
