/** A small line of the last minutes, from the bottom at nothing to the top at the most. */
export function Spark({ at, values, label }: { at: number[]; values: number[]; label: string }) {
  const now = at.at(-1) ?? 0;
  const first = at.findIndex((moment) => moment >= now - SPARK_SECONDS);
  const shown = first < 0 ? [] : values.slice(first);
  const most = Math.max(1e-9, ...shown);
  const x = (moment: number) => WIDTH - ((now - moment) / SPARK_SECONDS) * WIDTH;
  const y = (value: number) => HEIGHT - 1 - (value / most) * (HEIGHT - 2);
  const points = shown.map(
    (value, place) => `${x(at[first + place]!).toFixed(1)},${y(value ?? 0).toFixed(1)}`,
  );
  return (
    <svg
      role="img"
      aria-label={label}
      viewBox={`0 0 ${WIDTH} ${HEIGHT}`}
      className="h-5 w-24 text-ink"
    >
      <line x1="0" y1={HEIGHT - 1} x2={WIDTH} y2={HEIGHT - 1} stroke="var(--color-line)" />
      <polyline points={points.join(" ")} fill="none" stroke="currentColor" strokeWidth="1.2" />
    </svg>
  );
}

/** How much of the past it shows. */
export const SPARK_SECONDS = 120;
const WIDTH = 96;
const HEIGHT = 20;
