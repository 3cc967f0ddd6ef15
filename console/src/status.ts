import { useEffect, useState } from "react";

/** How one model stands, as `GET /manage/status` tells it. */
export interface ModelStatus {
  name: string;
  device: string;
  instructions: string;
  cores: number;
  parameters: number;
  width: number;
  context: number;
  queue_depth: number;
  queue_limit: number;
  lanes_used: number;
  pages_used: number;
  pages_cached: number;
  pages_total: number;
  steps: number;
  prefill_tokens: number;
  output_tokens: number;
  preemptions: number;
  failure: string | null;
}

/** How the service stands. */
export interface ServiceStatus {
  version: string;
  uptime: number;
  state: string;
  calls_recorded: number;
  models: ModelStatus[];
}

/** The last status and whether the service answers. */
export interface Observed {
  status: ServiceStatus | null;
  connected: boolean;
}

/** Asks for the status every second, one request for the whole page. */
export function useStatus(): Observed {
  const [observed, setObserved] = useState<Observed>({ status: null, connected: true });
  useEffect(() => {
    let stopped = false;
    let timer = 0;
    const look = async () => {
      try {
        const response = await fetch("/manage/status", { signal: AbortSignal.timeout(3000) });
        if (!response.ok) throw new Error(response.statusText);
        const status = (await response.json()) as ServiceStatus;
        if (!stopped) setObserved({ status, connected: true });
      } catch {
        if (!stopped) setObserved((before) => ({ ...before, connected: false }));
      }
      if (!stopped) timer = window.setTimeout(look, 1000);
    };
    void look();
    return () => {
      stopped = true;
      window.clearTimeout(timer);
    };
  }, []);
  return observed;
}
