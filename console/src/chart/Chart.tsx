import { useEffect, useRef } from "react";
import uPlot from "uplot";
import "uplot/dist/uPlot.min.css";
import { hundredths } from "../numbers";

/** One line of a chart. */
export interface Curve {
  name: string;
  /** A custom property of the style sheet, such as `--color-ink`. */
  color: string;
  values: (number | null)[];
  dash?: number[];
}

/** What stands along the bottom of a chart. */
export interface Along {
  /** Charts of the same name share their place: hovering one shows all. */
  name: string;
  /** A place on it, in words. */
  label: (x: number) => string;
}

/** Time of day, in seconds since 1970. */
export const CLOCK: Along = {
  name: "moment",
  label: (at) => new Date(at * 1000).toLocaleTimeString("en-GB"),
};

const HEIGHT = 148;
/** Height of the legend. */
const LEGEND = 24;

function css(name: string): string {
  return getComputedStyle(document.documentElement).getPropertyValue(name).trim();
}

/** Draws a line through the chart at each place. */
function mark(chart: uPlot, places: number[]) {
  const { ctx, bbox } = chart;
  ctx.save();
  ctx.strokeStyle = css("--color-lamp");
  ctx.lineWidth = 2 * devicePixelRatio;
  ctx.setLineDash([]);
  for (const place of places) {
    const x = chart.valToPos(place, "x", true);
    if (x < bbox.left || x > bbox.left + bbox.width) continue;
    ctx.beginPath();
    ctx.moveTo(x, bbox.top);
    ctx.lineTo(x, bbox.top + bbox.height);
    ctx.stroke();
  }
  ctx.restore();
}

/** Lines over an axis that charts of a page share. */
export function Chart({
  title,
  unit,
  along,
  x,
  range,
  curves,
  marks = [],
}: {
  title: string;
  unit: string;
  along: Along;
  x: number[];
  range: [number, number];
  curves: Curve[];
  /** Places along the bottom at which something happened. */
  marks?: number[];
}) {
  const place = useRef<HTMLDivElement>(null);
  const plot = useRef<uPlot>(null);
  const marked = useRef(marks);
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
        // The legend stands above the lines, within the picture.
        padding: [LEGEND, null, null, null],
        cursor: {
          sync: { key: uPlot.sync(along.name).key },
          y: false,
          drag: { x: false, y: false },
        },
        legend: { live: true },
        hooks: { drawClear: [(chart) => mark(chart, marked.current)] },
        scales: {
          x: { time: along === CLOCK },
          y: { range: (_, __, most) => [0, Math.max(most, 1) * 1.1] },
        },
        axes: [
          { ...axis, space: 90, size: 28, values: (_, splits) => splits.map(along.label) },
          {
            ...axis,
            space: 26,
            size: (_, values) =>
              14 + 7 * Math.max(3, ...(values ?? []).map((value) => value.length)),
            values: (_, splits) => splits.map((value) => hundredths(value).toLocaleString("en-GB")),
          },
        ],
        series: [
          { label: "at", value: (_, x: number | null) => (x === null ? "–" : along.label(x)) },
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
  }, [names, unit, along]);

  useEffect(() => {
    marked.current = marks;
    plot.current?.batch(() => {
      plot.current?.setData([x, ...curves.map((curve) => curve.values)], false);
      plot.current?.setScale("x", { min: range[0], max: range[1] });
      // Without a pointer the legend tells the last place.
      if (plot.current?.cursor.idx == null) plot.current?.setLegend({ idx: x.length - 1 });
    });
  });

  const span =
    x.length > 0 ? `, from ${along.label(x[0]!)} to ${along.label(x[x.length - 1]!)}` : "";
  return (
    <figure className="min-w-0">
      <figcaption className="text-sm text-faint">
        {title} <span className="font-mono text-xs">({unit})</span>
      </figcaption>
      <div ref={place} className="w-full" role="img" aria-label={`${title}, in ${unit}${span}`} />
    </figure>
  );
}
