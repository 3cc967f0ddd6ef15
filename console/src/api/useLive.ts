import { useSyncExternalStore } from "react";
import { live, type Live } from "./live";

/** The live state, drawn anew whenever it changes. */
export function useLive(): Live {
  useSyncExternalStore(live.subscribe, live.snapshot);
  return live;
}
