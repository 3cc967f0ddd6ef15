import { ApiError, send } from "./call";
import { frames } from "./frames";
import { History } from "./history";
import type { LiveSteps, LoadStatus, RecordedCall, ServiceStatus, Step } from "./types";

/** How the page hears of the service. */
export type Connection =
  | { kind: "looking" }
  | { kind: "connected" }
  | { kind: "lost" }
  | { kind: "denied"; reason: string };

/** Steps of each model that are kept for the batch strip. */
const MOST_STEPS = 6000;
/** Time before the service is called again after the stream broke, in milliseconds. */
const AGAIN = 1000;

/** The one stream of live events: every moving part of every page reads from here. */
export class Live {
  status: ServiceStatus | null = null;
  connection: Connection = { kind: "looking" };
  readonly history = new History();
  /** How the newest load test is getting on, once something was heard of it. */
  load: LoadStatus | null = null;
  /** The newest steps of each model, oldest first. */
  readonly steps = new Map<string, Step[]>();
  /** The request of each sequence that came in. */
  readonly requests = new Map<string, string>();
  /** When the page heard that a request came into the batch, by the request's name. */
  readonly admitted = new Map<string, number>();
  private readonly listeners = new Set<() => void>();
  private readonly callListeners = new Set<(call: RecordedCall) => void>();
  private version = 0;
  private heard = performance.now();
  private ahead = new Map<string, number>();
  private controller: AbortController | null = null;

  /** Listens to the service from now on; returns how to stop. */
  start(): () => void {
    const controller = new AbortController();
    this.controller = controller;
    void this.follow(controller.signal);
    return () => controller.abort();
  }

  /** Listens no longer. */
  stop(): void {
    this.controller?.abort();
  }

  /** Calls the service anew, as after a key was given. */
  restart(): void {
    this.stop();
    this.set({ kind: "looking" });
    this.start();
  }

  /** Tells when anything has changed; for `useSyncExternalStore`. */
  subscribe = (listener: () => void): (() => void) => {
    this.listeners.add(listener);
    return () => this.listeners.delete(listener);
  };

  /** A number that grows with each change. */
  snapshot = (): number => this.version;

  /** Hears of every call that has ended. */
  onCall(listener: (call: RecordedCall) => void): () => void {
    this.callListeners.add(listener);
    return () => this.callListeners.delete(listener);
  }

  /** Takes steps that happened before the stream was opened. */
  begin(model: string, steps: Step[]): void {
    const first = this.steps.get(model)?.[0]?.number ?? Infinity;
    const later = this.steps.get(model) ?? [];
    this.steps.set(model, []);
    this.keep(
      model,
      steps.filter((step) => step.number < first),
    );
    this.keep(model, later);
  }

  /** Returns the moment on a model's own clock: seconds since its engine started. */
  now(model: string): number {
    const told = this.status?.models.find(({ name }) => name === model)?.uptime ?? 0;
    const now = told + (performance.now() - this.heard) / 1000;
    // The status was true when it left the service: a step that ended later tells how long it took here.
    const last = this.steps.get(model)?.at(-1);
    const ahead = Math.max(this.ahead.get(model) ?? 0, last ? last.at + last.duration - now : 0);
    this.ahead.set(model, ahead);
    return now + ahead;
  }

  /** Takes how the newest load test is getting on. */
  heardOfLoad(load: LoadStatus | null): void {
    this.load = load;
    this.changed();
  }

  private async follow(signal: AbortSignal): Promise<void> {
    while (!signal.aborted) {
      try {
        const response = await send("/manage/live", { signal });
        if (!response.body) throw new Error("the stream has no body");
        this.set({ kind: "connected" });
        for await (const event of frames(response.body)) this.take(event.event ?? "", event.data);
      } catch (error) {
        if (signal.aborted) return;
        if (error instanceof ApiError && error.isDenied) {
          this.set({ kind: "denied", reason: error.message });
          return;
        }
      }
      this.set({ kind: "lost" });
      await new Promise((resolve) => window.setTimeout(resolve, AGAIN));
    }
  }

  /** Takes an event of the stream. */
  take(event: string, data: string): void {
    if (event === "status") {
      const status = JSON.parse(data) as ServiceStatus;
      // A service that was started again counts from the beginning.
      if (this.status && status.uptime < this.status.uptime) this.forget();
      this.status = status;
      this.heard = performance.now();
      this.history.push(status);
      this.changed();
    } else if (event === "steps") {
      const { model, steps } = JSON.parse(data) as LiveSteps;
      this.keep(model, steps);
    } else if (event === "load") {
      this.heardOfLoad(JSON.parse(data) as LoadStatus);
    } else if (event === "call") {
      const call = JSON.parse(data) as RecordedCall;
      this.callListeners.forEach((listener) => listener(call));
    }
  }

  private keep(model: string, steps: Step[]): void {
    const kept = this.steps.get(model) ?? [];
    kept.push(...steps);
    if (kept.length > MOST_STEPS) kept.splice(0, kept.length - MOST_STEPS);
    this.steps.set(model, kept);
    for (const step of steps) {
      for (const { sequence, request } of step.admitted) {
        this.requests.set(`${model} ${sequence}`, request);
        if (!this.admitted.has(request)) this.admitted.set(request, performance.now());
      }
    }
    for (const map of [this.requests, this.admitted]) {
      while (map.size > MOST_STEPS) map.delete(map.keys().next().value as string);
    }
  }

  private forget(): void {
    this.ahead.clear();
    this.steps.clear();
    this.requests.clear();
    this.admitted.clear();
    this.load = null;
  }

  private set(connection: Connection): void {
    this.connection = connection;
    this.changed();
  }

  private changed(): void {
    this.version += 1;
    this.listeners.forEach((listener) => listener());
  }
}

/** The page's own. */
export const live = new Live();
