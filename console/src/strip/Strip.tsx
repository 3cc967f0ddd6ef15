import { useEffect, useRef, useState, type PointerEvent } from "react";
import { useNavigate, useParams } from "react-router";
import { live, stripOf } from "../api/live";
import type { ReplicaSteps, Step } from "../api/types";
import { useAnswer } from "../api/useAnswer";
import { useLive } from "../api/useLive";
import { Empty, Trouble } from "../frame/State";
import { grouped, timing } from "../numbers";
import { draw, layout, type Palette } from "./draw";
import { firstAfter, laneUse, preemptions, type LaneRun } from "./runs";

const SPANS = [0.5, 1, 2, 5, 10, 20];

interface Hover {
  x: number;
  y: number;
  step: Step | null;
  run: LaneRun | null;
}

/** How is the batch being used? */
export function Strip() {
  const { status } = useLive();
  const { endpoint: wanted } = useParams();
  const navigate = useNavigate();
  if (!status) return <Empty>Connecting to the service…</Empty>;
  const endpoint = status.endpoints.find(({ name }) => name === wanted) ?? status.endpoints[0];
  const replica = endpoint?.replicas[0];
  if (!endpoint || !replica)
    return <Empty>There are no endpoints, so there is no batch to show.</Empty>;
  return (
    <div className="flex flex-col gap-4">
      <div className="flex flex-wrap items-center justify-between gap-3">
        <h2 className="text-lg font-semibold">Batch strip of {endpoint.name}</h2>
        {status.endpoints.length > 1 && (
          <select
            aria-label="Endpoint"
            value={endpoint.name}
            onChange={(event) =>
              void navigate(`/console/strip/${encodeURIComponent(event.target.value)}`)
            }
            className="border border-ink/60 bg-paper px-2 py-1 font-mono"
          >
            {status.endpoints.map(({ name }) => (
              <option key={name}>{name}</option>
            ))}
          </select>
        )}
      </div>
      <Canvas
        key={`${endpoint.name} ${replica.replica}`}
        endpoint={endpoint.name}
        replica={replica.replica}
        width={replica.width}
      />
    </div>
  );
}

function palette(): Palette {
  const style = getComputedStyle(document.documentElement);
  const color = (name: string) => style.getPropertyValue(`--color-${name}`).trim();
  return {
    ink: color("ink"),
    paper: color("paper"),
    line: color("line"),
    lamp: color("lamp"),
    red: color("red"),
    green: color("green"),
    faint: color("faint"),
  };
}

function Canvas({
  endpoint,
  replica,
  width,
}: {
  endpoint: string;
  replica: number;
  width: number;
}) {
  const strip = stripOf(endpoint, replica);
  const [span, setSpan] = useState(5);
  const [held, setHeld] = useState<number | null>(null);
  const [hover, setHover] = useState<Hover | null>(null);
  const [use, setUse] = useState(0);
  const [preempted, setPreempted] = useState(0);
  const canvas = useRef<HTMLCanvasElement>(null);
  const shown = useRef({ from: 0, to: 1, runs: [] as LaneRun[] });
  const navigate = useNavigate();
  // What happened before this page was opened.
  const before = useAnswer<ReplicaSteps>(
    `/manage/endpoints/${encodeURIComponent(endpoint)}/steps?replica=${replica}&most=2000`,
  );
  useEffect(() => {
    if (before.value) live.begin(before.value);
  }, [before.value]);

  useEffect(() => {
    let frame = 0;
    let counted = 0;
    const paint = () => {
      frame = requestAnimationFrame(paint);
      const element = canvas.current;
      const context = element?.getContext("2d");
      if (!element || !context) return;
      const place = layout(element.clientWidth, width);
      const scale = window.devicePixelRatio || 1;
      if (element.width !== Math.round(place.width * scale)) {
        element.width = Math.round(place.width * scale);
        element.height = Math.round(place.height * scale);
      }
      context.setTransform(scale, 0, 0, scale, 0, 0);
      const to = held ?? live.now(strip);
      const from = to - span;
      const runs = draw(context, place, palette(), live.steps.get(strip) ?? [], from, to);
      shown.current = { from, to, runs };
      if (performance.now() - counted > 500) {
        counted = performance.now();
        setUse(laneUse(runs, width, from, to));
        setPreempted(preemptions(live.steps.get(strip) ?? [], from, to));
      }
    };
    frame = requestAnimationFrame(paint);
    return () => cancelAnimationFrame(frame);
  }, [strip, width, span, held]);

  function under(event: PointerEvent<HTMLCanvasElement>): Hover {
    const box = event.currentTarget.getBoundingClientRect();
    const place = layout(box.width, width);
    const [x, y] = [event.clientX - box.left, event.clientY - box.top];
    const { from, to, runs } = shown.current;
    const at = from + (x / box.width) * (to - from);
    const lane = Math.floor(y / place.laneHeight);
    const steps = live.steps.get(strip) ?? [];
    const step = steps[firstAfter(steps, at)] ?? null;
    const run = runs.findLast((run) => run.lane === lane && run.from <= at && at <= run.to) ?? null;
    return { x, y, step: step && step.at <= at ? step : null, run };
  }

  function open(event: PointerEvent<HTMLCanvasElement>) {
    const run = under(event).run;
    const request = run && live.requests.get(`${strip} ${run.sequence}`);
    if (request) void navigate(`/console/requests/${encodeURIComponent(request)}`);
  }

  const height = layout(1000, width).height;
  return (
    <section className="border border-line bg-sheet p-4">
      <div className="mb-3 flex flex-wrap items-center gap-x-5 gap-y-2 text-sm">
        <button
          type="button"
          aria-pressed={held !== null}
          onClick={() => setHeld((held) => (held === null ? live.now(strip) : null))}
          className="border border-ink px-4 py-1"
        >
          {held === null ? "Pause" : "Resume"}
        </button>
        <label className="flex items-center gap-2">
          Time range
          <select
            value={span}
            onChange={(event) => setSpan(Number(event.target.value))}
            className="border border-ink/60 bg-paper px-2 py-1 font-mono"
          >
            {SPANS.map((span) => (
              <option key={span} value={span}>
                {span} s
              </option>
            ))}
          </select>
        </label>
        <p data-use className="font-mono tabular-nums">
          {Math.round(use * 100)} % of lane time in use
        </p>
        <p data-preempted className="font-mono tabular-nums">
          {preempted} preempted
        </p>
        <Legend />
      </div>
      {before.error && <Trouble error={before.error} again={before.again} />}
      <div className="relative">
        <canvas
          ref={canvas}
          role="img"
          aria-label={`Activity of ${width} lanes over the last ${span} seconds, with queue depth below`}
          style={{ height }}
          className="w-full cursor-crosshair"
          onPointerMove={(event) => setHover(under(event))}
          onPointerLeave={() => setHover(null)}
          onClick={(event) => open(event as unknown as PointerEvent<HTMLCanvasElement>)}
        />
        {hover?.step && <Card hover={hover} strip={strip} />}
      </div>
      <p className="mt-2 text-sm text-faint">
        Time runs from left to right. Each row is one lane of the batch; gaps are unused time. Click
        a lane to open its request.
      </p>
    </section>
  );
}

function Card({ hover, strip }: { hover: Hover; strip: string }) {
  const { step, run } = hover;
  if (!step) return null;
  const tokens = step.lanes.reduce((sum, lane) => sum + lane.tokens, 0);
  const request = run && live.requests.get(`${strip} ${run.sequence}`);
  return (
    <div
      className="pointer-events-none absolute z-10 w-64 border border-ink bg-sheet px-3 py-2 text-sm"
      style={{ left: Math.max(0, hover.x - 270), top: hover.y + 12 }}
    >
      <p className="font-mono">
        step {grouped(step.number)}, {timing(step.duration)}
      </p>
      <p>
        {step.lanes.length} lanes, {tokens} tokens, {step.waiting} waiting
      </p>
      {run && (
        <p className="mt-1 border-t border-line pt-1">
          lane {run.lane + 1}: {run.kind}, {run.tokens} tokens in {run.steps} steps
          {run.reused > 0 ? `, ${run.reused} reused` : ""}
          {request ? <span className="block font-mono text-xs text-faint">{request}</span> : null}
        </p>
      )}
    </div>
  );
}

function Legend() {
  return (
    <ul className="ml-auto flex flex-wrap gap-x-4 text-sm">
      <li className="flex items-center gap-2">
        <span className="inline-block h-3 w-5 border border-ink bg-lamp" aria-hidden="true" />{" "}
        prefill
      </li>
      <li className="flex items-center gap-2">
        <span className="inline-block h-3 w-5 bg-ink" aria-hidden="true" /> decode
      </li>
      <li className="flex items-center gap-2">
        <span className="text-green" aria-hidden="true">
          ◤
        </span>{" "}
        prefix reused
      </li>
      <li className="flex items-center gap-2">
        <span className="text-red" aria-hidden="true">
          ✕
        </span>{" "}
        preempted
      </li>
    </ul>
  );
}
