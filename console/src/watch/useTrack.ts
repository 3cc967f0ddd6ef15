import { useEffect } from "react";
import type { Track } from "../api/history";
import type { ModelHistory } from "../api/types";
import { useAnswer } from "../api/useAnswer";
import { useLive } from "../api/useLive";
import { joined } from "./joined";

/** What the service kept is asked for again so often, in milliseconds. */
const AGAIN = 60_000;

/** What a model was like: what the service kept, and then what this page has heard. */
export function useTrack(model: string, seconds: number): Track {
  const { history } = useLive();
  const { value, again } = useAnswer<ModelHistory>(
    `/manage/models/${encodeURIComponent(model)}/history?seconds=${seconds}`,
  );
  useEffect(() => {
    const timer = window.setInterval(again, AGAIN);
    return () => window.clearInterval(timer);
  }, [again]);
  return joined(value, history.of(model));
}
