import { useCallback, useEffect, useRef, useState } from "react";
import { call, Unreachable } from "./call";
import { useConnected } from "./useLive";

/** What has come of a call: loading first, then an answer or an error. */
export interface Answer<T> {
  value: T | null;
  error: Error | null;
  again: () => void;
}

/**
 * Calls an address when it changes, when asked to, and when a service that could not be reached is there again. An
 * answer stays until the next one is there.
 */
export function useAnswer<T>(path: string): Answer<T> {
  const [state, setState] = useState<{ value: T | null; error: Error | null }>({
    value: null,
    error: null,
  });
  const [round, setRound] = useState(0);
  const underWay = useRef(false);
  useEffect(() => {
    const controller = new AbortController();
    underWay.current = true;
    const ended = () => {
      if (!controller.signal.aborted) underWay.current = false;
    };
    call<T>(path, { signal: controller.signal })
      .then(
        (value) => setState({ value, error: null }),
        (error: Error) => {
          if (!controller.signal.aborted) setState({ value: null, error });
        },
      )
      .finally(ended);
    return () => controller.abort();
  }, [path, round]);
  // A call that is slower than the pace of asking is waited for; asking again would only end it.
  const again = useCallback(() => {
    if (!underWay.current) setRound((before) => before + 1);
  }, []);
  const connected = useConnected();
  const missed = state.error instanceof Unreachable;
  useEffect(() => {
    if (connected && missed) again();
  }, [connected, missed, again]);
  return { ...state, again };
}
