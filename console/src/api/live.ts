import { ApiError, send } from "./call";
import { frames } from "./frames";
import { History } from "./history";
import type { LoadStatus, RecordedCall, ReplicaSteps, ServiceStatus, Step } from "./types";

/** How the page hears of the service. */
export type Connection =
  | { kind: "looking" }
  | { kind: "connected" }
  | { kind: "lost" }
  /** The page may call models and nothing else. */
  | { kind: "limited" }
  | { kind: "denied"; reason: string; code: string };

/** Steps of each replica that are kept for the batch strip. */
const MOST_STEPS = 6000;
/** Time before the service is called again after the stream broke, in milliseconds. */
const AGAIN = 1000;

/** The name of a replica's batch strip. */
export function stripOf(endpoint: string, replica: number): string {
  return `${endpoint} ${replica}`;
}

/** The one stream of live events: every moving part of every page reads from here. */
export class Live {
  status: ServiceStatus | null = null;
  connection: Connection = { kind: "looking" };
  /** Whether the service is another version than the one this page is from. */
  upgraded = false;
  readonly history = new History();
  /** How the newest load test is getting on, once something was heard of it. */
  load: LoadStatus | null = null;
  /** The newest steps of each replica, oldest first, by its strip's name. */
  readonly steps = new Map<string, Step[]>();
  /** Which of its lives the steps of each replica belong to. */
  private readonly lives = new Map<string, number>();
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

  /** Shows what only calls models: whoever does so needs no session. */
  limit(): void {
    this.stop();
    this.set({ kind: "limited" });
  }

  /** Notes that a part of this page is gone from the service. */
  isOutdated(): void {
    this.upgraded = true;
    this.changed();
  }

  /** Does not listen, as the page could not sign in. */
  refuse(reason: string): void {
    this.stop();
    this.set({ kind: "denied", reason, code: "code_over" });
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
  begin(before: ReplicaSteps): void {
    const strip = stripOf(before.endpoint, before.replica);
    this.live(strip, before.incarnation);
    const later = this.steps.get(strip) ?? [];
    const first = later[0]?.number ?? Infinity;
    this.steps.set(strip, []);
    this.keep(
      strip,
      before.steps.filter((step) => step.number < first),
    );
    this.keep(strip, later);
  }

  /** Returns the moment on a replica's own clock: seconds since its engine started. */
  now(strip: string): number {
    const now = this.told(strip) + (performance.now() - this.heard) / 1000;
    // The status was true when it left the service: a step that ended later tells how long it took here.
    const last = this.steps.get(strip)?.at(-1);
    const ahead = Math.max(this.ahead.get(strip) ?? 0, last ? last.at + last.duration - now : 0);
    this.ahead.set(strip, ahead);
    return now + ahead;
  }

  /** Returns a replica's clock as the last status told it. */
  private told(strip: string): number {
    for (const endpoint of this.status?.endpoints ?? [])
      for (const { replica, uptime } of endpoint.replicas)
        if (stripOf(endpoint.name, replica) === strip) return uptime;
    return 0;
  }

  /** Forgets an endpoint that was removed, before the next status does. */
  removed(name: string): void {
    if (!this.status) return;
    const left = <T extends { name: string }>(all: T[]) => all.filter((one) => one.name !== name);
    const { endpoints, resting } = this.status;
    this.status = { ...this.status, endpoints: left(endpoints), resting: left(resting ?? []) };
    this.changed();
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
        if (error instanceof ApiError && error.code === "scope_missing") {
          this.set({ kind: "limited" });
          return;
        }
        if (error instanceof ApiError && error.isDenied) {
          this.set({ kind: "denied", reason: error.message, code: error.code });
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
      if (this.status && status.version !== this.status.version) this.upgraded = true;
      this.status = status;
      this.heard = performance.now();
      this.history.push(status);
      this.changed();
    } else if (event === "steps") {
      const { endpoint, replica, incarnation, steps } = JSON.parse(data) as ReplicaSteps;
      const strip = stripOf(endpoint, replica);
      this.live(strip, incarnation);
      this.keep(strip, steps);
    } else if (event === "load") {
      this.heardOfLoad(JSON.parse(data) as LoadStatus);
    } else if (event === "call") {
      const call = JSON.parse(data) as RecordedCall;
      this.callListeners.forEach((listener) => listener(call));
    }
  }

  /** Begins anew when a replica does: its steps and its clock count from the beginning. */
  private live(strip: string, incarnation: number): void {
    if (this.lives.get(strip) === incarnation) return;
    this.lives.set(strip, incarnation);
    this.steps.delete(strip);
    this.ahead.delete(strip);
  }

  private keep(strip: string, steps: Step[]): void {
    const kept = this.steps.get(strip) ?? [];
    kept.push(...steps);
    if (kept.length > MOST_STEPS) kept.splice(0, kept.length - MOST_STEPS);
    this.steps.set(strip, kept);
    for (const step of steps) {
      for (const { sequence, request, given_id } of step.admitted) {
        this.requests.set(`${strip} ${sequence}`, request);
        const given = given_id ?? request;
        if (!this.admitted.has(given)) this.admitted.set(given, performance.now());
      }
    }
    for (const map of [this.requests, this.admitted]) {
      while (map.size > MOST_STEPS) map.delete(map.keys().next().value as string);
    }
  }

  private forget(): void {
    this.ahead.clear();
    this.lives.clear();
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
