import type { Track } from "../api/history";
import type { EndpointHistory } from "../api/types";
import { useAnswer } from "../api/useAnswer";
import { useLive } from "../api/useLive";
import { joined } from "./joined";

/** The history that the service has is asked for again so often, in milliseconds. */
const AGAIN = 60_000;

/** What an endpoint was like: what the service kept, and then what this page has heard. */
export function useTrack(endpoint: string, seconds: number): Track {
  const { history } = useLive();
  const { value } = useAnswer<EndpointHistory>(
    `/manage/endpoints/${encodeURIComponent(endpoint)}/history?seconds=${seconds}`,
    AGAIN,
  );
  return joined(value, history.of(endpoint));
}
