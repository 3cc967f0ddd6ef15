import type { Step } from "../api/types";
import { firstAfter, laneRuns, PAUSE, type LaneRun } from "./runs";

/** Colours of the chart, read from the style sheet. */
export interface Palette {
  ink: string;
  paper: string;
  line: string;
  lamp: string;
  red: string;
  green: string;
  faint: string;
}

/** Where things stand on the canvas, in pixels. */
export interface Layout {
  width: number;
  lanes: number;
  laneHeight: number;
  queueTop: number;
  queueHeight: number;
  height: number;
}

const QUEUE = 72;
const GAP = 26;

export function layout(width: number, lanes: number): Layout {
  const laneHeight = Math.max(6, Math.min(26, Math.floor(420 / lanes)));
  const queueTop = lanes * laneHeight + GAP;
  return { width, lanes, laneHeight, queueTop, queueHeight: QUEUE, height: queueTop + QUEUE + 18 };
}

/** Draws the strip between two moments; returns the runs, for finding what lies under the pointer. */
export function draw(
  context: CanvasRenderingContext2D,
  place: Layout,
  palette: Palette,
  steps: Step[],
  from: number,
  to: number,
): LaneRun[] {
  const x = (at: number) => ((at - from) / (to - from)) * place.width;
  context.clearRect(0, 0, place.width, place.height);
  drawGrid(context, place, palette, from, to, x);
  const runs = laneRuns(steps, from, to);
  for (const run of runs) drawRun(context, place, palette, run, x);
  drawMarks(context, place, palette, steps, from, to, x);
  drawQueue(context, place, palette, steps, from, to, x);
  return runs;
}

function drawGrid(
  context: CanvasRenderingContext2D,
  place: Layout,
  palette: Palette,
  from: number,
  to: number,
  x: (at: number) => number,
) {
  context.strokeStyle = palette.line;
  context.fillStyle = palette.faint;
  context.lineWidth = 0.5;
  context.font = "11px 'IBM Plex Mono'";
  const every = [0.1, 0.25, 0.5, 1, 2, 5, 10].find((step) => (to - from) / step <= 12) ?? 30;
  context.beginPath();
  for (let at = Math.ceil(from / every) * every; at <= to; at += every) {
    context.moveTo(x(at), 0);
    context.lineTo(x(at), place.height - 16);
    context.fillText(`${at.toFixed(every < 1 ? 2 : 0)} s`, x(at) + 3, place.height - 4);
  }
  for (let lane = 0; lane <= place.lanes; lane += 1) {
    context.moveTo(0, lane * place.laneHeight);
    context.lineTo(place.width, lane * place.laneHeight);
  }
  context.stroke();
}

function drawRun(
  context: CanvasRenderingContext2D,
  place: Layout,
  palette: Palette,
  run: LaneRun,
  x: (at: number) => number,
) {
  const top = run.lane * place.laneHeight + 1;
  const height = place.laneHeight - 2;
  const left = x(run.from);
  const width = Math.max(1, x(run.to) - left);
  if (run.kind === "prefill") {
    context.fillStyle = palette.lamp;
    context.fillRect(left, top, width, height);
    context.strokeStyle = palette.ink;
    context.lineWidth = 1;
    context.strokeRect(left + 0.5, top + 0.5, Math.max(0, width - 1), height - 1);
  } else {
    // Neighbours in one lane differ in shade, so that one answer's end shows.
    context.globalAlpha = run.sequence % 2 === 0 ? 0.85 : 0.6;
    context.fillStyle = palette.ink;
    context.fillRect(left, top, width, height);
    context.globalAlpha = 1;
  }
  if (run.reused > 0) {
    context.fillStyle = palette.green;
    context.beginPath();
    context.moveTo(left, top);
    context.lineTo(left + 8, top);
    context.lineTo(left, top + 8);
    context.fill();
  }
}

function drawMarks(
  context: CanvasRenderingContext2D,
  place: Layout,
  palette: Palette,
  steps: Step[],
  from: number,
  to: number,
  x: (at: number) => number,
) {
  context.strokeStyle = palette.red;
  context.lineWidth = 2;
  for (let index = firstAfter(steps, from); index < steps.length; index += 1) {
    const step = steps[index]!;
    if (step.at > to) break;
    for (const sequence of step.preempted) {
      const before = steps[index - 1]?.lanes.find((lane) => lane.sequence === sequence);
      const middle = ((before?.lane ?? place.lanes - 1) + 0.5) * place.laneHeight;
      const at = x(step.at);
      context.beginPath();
      context.moveTo(at - 4, middle - 4);
      context.lineTo(at + 4, middle + 4);
      context.moveTo(at + 4, middle - 4);
      context.lineTo(at - 4, middle + 4);
      context.stroke();
    }
  }
}

function drawQueue(
  context: CanvasRenderingContext2D,
  place: Layout,
  palette: Palette,
  steps: Step[],
  from: number,
  to: number,
  x: (at: number) => number,
) {
  const shown = steps.slice(firstAfter(steps, from)).filter((step) => step.at <= to);
  const most = shown.reduce((most, step) => Math.max(most, step.waiting), 1);
  const bottom = place.queueTop + place.queueHeight;
  context.fillStyle = palette.faint;
  context.fillText(`queue depth, max ${most}`, 3, place.queueTop - 6);
  context.fillStyle = palette.red;
  shown.forEach((step, index) => {
    const height = (step.waiting / most) * place.queueHeight;
    // Up to the next step, so that the area is one; but not over a time without steps.
    const next = shown[index + 1]?.at ?? Infinity;
    const end = step.at + step.duration;
    const until = next - end < PAUSE ? next : end;
    context.fillRect(x(step.at), bottom - height, Math.max(1, x(until) - x(step.at) + 0.5), height);
  });
  context.globalAlpha = 1;
  context.strokeStyle = palette.line;
  context.strokeRect(0.5, place.queueTop + 0.5, place.width - 1, place.queueHeight);
}
