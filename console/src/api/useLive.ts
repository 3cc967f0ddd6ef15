import { useSyncExternalStore } from "react";
import { live, type Live } from "./live";

/** The live state, drawn anew whenever it changes. */
export function useLive(): Live {
  useSyncExternalStore(live.subscribe, live.snapshot);
  return live;
}

/** Whether the service is heard; drawn anew only when that changes. */
export function useConnected(): boolean {
  return useSyncExternalStore(live.subscribe, () => live.connection.kind === "connected");
}
