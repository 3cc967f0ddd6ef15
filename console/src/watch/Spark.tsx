import { grouped } from "../numbers";

/** A chart of the last minutes with its scale: from the bottom at nothing to the top at the most. */
export function Spark({
  at,
  values,
  label,
  unit,
}: {
  at: number[];
  values: number[];
  label: string;
  unit: string;
}) {
  const now = at.at(-1) ?? 0;
  const first = at.findIndex((moment) => moment >= now - SPARK_SECONDS);
  const shown = first < 0 ? [] : values.slice(first);
  const most = Math.max(1, ...shown);
  const x = (moment: number) => RIGHT - ((now - moment) / SPARK_SECONDS) * (RIGHT - LEFT);
  const y = (value: number) => BOTTOM - (value / most) * (BOTTOM - TOP);
  const points = shown.map(
    (value, place) => `${x(at[first + place]!).toFixed(1)},${y(value ?? 0).toFixed(1)}`,
  );
  const from = points.length > 0 ? x(at[first]!) : RIGHT;
  const area = `${from.toFixed(1)},${BOTTOM} ${points.join(" ")} ${RIGHT},${BOTTOM}`;
  return (
    <svg
      role="img"
      aria-label={`${label}, at most ${grouped(Math.round(most))} ${unit}`}
      viewBox={`0 0 ${WIDTH} ${HEIGHT}`}
      className="h-16 w-full min-w-48 text-ink"
    >
      {[0, 60, 120].map((ago) => (
        <g key={ago}>
          <line
            x1={x(now - ago)}
            y1={TOP}
            x2={x(now - ago)}
            y2={BOTTOM}
            stroke="var(--color-line)"
            strokeWidth="0.5"
          />
          <text
            x={x(now - ago)}
            y={HEIGHT - 2}
            textAnchor={ago === 0 ? "end" : ago === SPARK_SECONDS ? "start" : "middle"}
            className="fill-faint font-mono text-[9px]"
          >
            {ago === 0 ? "now" : `−${ago / 60} min`}
          </text>
        </g>
      ))}
      <text x={LEFT - 4} y={TOP + 7} textAnchor="end" className="fill-faint font-mono text-[9px]">
        {grouped(Math.round(most))}
      </text>
      <text x={LEFT - 4} y={BOTTOM} textAnchor="end" className="fill-faint font-mono text-[9px]">
        0
      </text>
      <line x1={LEFT} y1={BOTTOM} x2={RIGHT} y2={BOTTOM} stroke="var(--color-line)" />
      <polygon points={area} fill="var(--color-shoal)" />
      <polyline points={points.join(" ")} fill="none" stroke="currentColor" strokeWidth="1.2" />
    </svg>
  );
}

/** How much of the past it shows. */
export const SPARK_SECONDS = 120;
const [WIDTH, HEIGHT, LEFT, RIGHT, TOP, BOTTOM] = [340, 72, 40, 336, 4, 56];
