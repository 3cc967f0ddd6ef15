import { useEffect } from "react";
import type { EndpointEvent, EndpointStatus } from "../api/types";
import { useAnswer } from "../api/useAnswer";

/** Events are asked for again so often, in milliseconds, and whenever a replica has another state. */
const AGAIN = 10_000;

/** The newest events of an endpoint, or of all of them, newest first. */
export function useEvents(name: string | null, served: EndpointStatus[]): EndpointEvent[] {
  const of = name === null ? "" : `&endpoint=${encodeURIComponent(name)}`;
  const { value, again } = useAnswer<EndpointEvent[]>(`/manage/events?most=50${of}`, AGAIN);
  const states = served
    .flatMap((endpoint) => endpoint.replicas)
    .map((replica) => `${replica.state} ${replica.incarnation}`)
    .join();
  useEffect(() => again(), [again, states]);
  return value ?? [];
}
