import { useEffect } from "react";
import type { Track } from "../api/history";
import type { EndpointHistory } from "../api/types";
import { useAnswer } from "../api/useAnswer";
import { useLive } from "../api/useLive";
import { joined } from "./joined";

/** What the service kept is asked for again so often, in milliseconds. */
const AGAIN = 60_000;

/** What an endpoint was like: what the service kept, and then what this page has heard. */
export function useTrack(endpoint: string, seconds: number): Track {
  const { history } = useLive();
  const { value, again } = useAnswer<EndpointHistory>(
    `/manage/endpoints/${encodeURIComponent(endpoint)}/history?seconds=${seconds}`,
  );
  useEffect(() => {
    const timer = window.setInterval(again, AGAIN);
    return () => window.clearInterval(timer);
  }, [again]);
  return joined(value, history.of(endpoint));
}
