import { useEffect } from "react";
import type { EndpointEvent, EndpointStatus } from "../api/types";
import { useAnswer } from "../api/useAnswer";

/** Events are asked for again so often, in milliseconds, and whenever a replica has another state. */
const AGAIN = 10_000;

/** The newest events of an endpoint, newest first. */
export function useEvents(endpoint: EndpointStatus): EndpointEvent[] {
  const { value, again } = useAnswer<EndpointEvent[]>(
    `/manage/events?most=50&endpoint=${encodeURIComponent(endpoint.name)}`,
  );
  const states = endpoint.replicas
    .map((replica) => `${replica.state} ${replica.incarnation}`)
    .join();
  useEffect(() => {
    again();
    const timer = window.setInterval(again, AGAIN);
    return () => window.clearInterval(timer);
  }, [again, states]);
  return value ?? [];
}
