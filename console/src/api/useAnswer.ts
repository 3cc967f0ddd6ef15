import { keepPreviousData, QueryClient, useQuery } from "@tanstack/react-query";
import { useCallback, useEffect } from "react";
import { call, Unreachable } from "./call";
import { useConnected } from "./useLive";

/** A call in the end: an answer or an error; neither while the first answer is on its way. */
export interface Answer<T> {
  value: T | null;
  error: Error | null;
  /** Asks again now; an answer that is on its way is not waited for. */
  again: () => void;
}

/** Answers of a page are asked for when the page is opened and forgotten when it is left. */
export const answers = new QueryClient({
  defaultOptions: {
    queries: {
      gcTime: 0,
      networkMode: "always",
      refetchOnReconnect: false,
      refetchOnWindowFocus: false,
      retry: false,
    },
  },
});

/**
 * Calls an address when it changes, when asked to, when a service that could not be reached is there again and, with
 * `every`, again after so many milliseconds. An answer stays until the next one is there; one that is slower than
 * `every` is waited for.
 */
export function useAnswer<T>(path: string, every?: number): Answer<T> {
  const { data, error, refetch } = useQuery<T, Error>({
    queryKey: [path],
    queryFn: ({ signal }) => call<T>(path, { signal }),
    placeholderData: keepPreviousData,
    refetchInterval: every ?? false,
  });
  const again = useCallback(() => void refetch(), [refetch]);
  const connected = useConnected();
  const missed = error instanceof Unreachable;
  useEffect(() => {
    if (connected && missed) again();
  }, [connected, missed, again]);
  return { value: error ? null : (data ?? null), error, again };
}
