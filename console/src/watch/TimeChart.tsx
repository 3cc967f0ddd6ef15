import { useEffect, useRef } from "react";
import uPlot from "uplot";
import "uplot/dist/uPlot.min.css";

/** One line of a chart. */
export interface Curve {
  name: string;
  /** A custom property of the style sheet, such as `--color-ink`. */
  color: string;
  values: (number | null)[];
  dash?: number[];
}

/** Charts of one page share their moment: hovering one shows all. */
const SYNC = uPlot.sync("moment");
const HEIGHT = 132;

function clock(at: number): string {
  return new Date(at * 1000).toLocaleTimeString("en-GB");
}

function css(name: string): string {
  return getComputedStyle(document.documentElement).getPropertyValue(name).trim();
}

/** Lines over a time axis that the charts of a page share. */
export function TimeChart({
  title,
  unit,
  at,
  curves,
  seconds,
}: {
  title: string;
  unit: string;
  at: number[];
  curves: Curve[];
  seconds: number;
}) {
  const place = useRef<HTMLDivElement>(null);
  const plot = useRef<uPlot>(null);
  const names = curves.map((curve) => `${curve.name} ${curve.color}`).join();

  useEffect(() => {
    const element = place.current;
    if (!element) return;
    const axis = {
      stroke: css("--color-faint"),
      grid: { stroke: css("--color-line"), width: 0.5 },
      ticks: { stroke: css("--color-line"), width: 0.5 },
      font: "11px 'IBM Plex Mono'",
    };
    const made = new uPlot(
      {
        width: element.clientWidth,
        height: HEIGHT,
        cursor: { sync: { key: SYNC.key }, y: false, drag: { x: false, y: false } },
        legend: { live: true },
        scales: { y: { range: (_, __, most) => [0, Math.max(most, 1) * 1.1] } },
        axes: [
          { ...axis, space: 90, values: (_, splits) => splits.map(clock) },
          { ...axis, size: 56, space: 26 },
        ],
        series: [
          { label: "at", value: (_, at: number | null) => (at === null ? "–" : clock(at)) },
          ...curves.map((curve) => ({
            label: curve.name,
            stroke: css(curve.color),
            width: 1.5,
            dash: curve.dash,
            points: { show: false },
            value: (_: uPlot, value: number | null) =>
              value === null
                ? "–"
                : `${value < 10 && !Number.isInteger(value) ? value.toFixed(1) : Math.round(value)} ${unit}`,
          })),
        ],
      },
      [[]],
      element,
    );
    plot.current = made;
    const resize = new ResizeObserver(() =>
      made.setSize({ width: element.clientWidth, height: HEIGHT }),
    );
    resize.observe(element);
    return () => {
      resize.disconnect();
      made.destroy();
      plot.current = null;
    };
    // Values change often and are set below; only other curves make another plot.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [names, unit]);

  useEffect(() => {
    const end = at.at(-1) ?? Date.now() / 1000;
    plot.current?.batch(() => {
      plot.current?.setData([at, ...curves.map((curve) => curve.values)], false);
      plot.current?.setScale("x", { min: end - seconds, max: end });
      // Without a pointer the legend tells the newest moment.
      if (plot.current?.cursor.idx == null) plot.current?.setLegend({ idx: at.length - 1 });
    });
  });

  return (
    <figure className="min-w-0">
      <figcaption className="text-sm text-faint">
        {title} <span className="font-mono text-xs">({unit})</span>
      </figcaption>
      <div
        ref={place}
        className="w-full"
        role="img"
        aria-label={`${title}, in ${unit}, over time`}
      />
    </figure>
  );
}
