import type { EndpointEvent } from "../api/types";
import { ago } from "../figures";

/** What happened to an endpoint, newest first. */
export function Events({ events }: { events: EndpointEvent[] }) {
  if (events.length === 0) return null;
  return (
    <section className="mt-5" aria-label="Events">
      <h4 className="text-sm text-faint">Events</h4>
      <ol className="mt-1 max-h-56 overflow-y-auto text-sm">
        {events.map((event) => (
          <li
            key={event.number}
            className="grid grid-cols-[5.5rem_9rem_1fr] gap-x-3 border-t border-line py-1"
          >
            <time
              className="font-mono text-xs leading-5 text-faint"
              dateTime={new Date(event.at_ms).toISOString()}
            >
              {ago(event.seconds_ago)} ago
            </time>
            <span className={event.what === "worker_gone" ? "text-red" : ""}>
              {event.what.replace("_", " ")}
            </span>
            <span className="min-w-0 break-words">
              {event.why}
              {event.who && event.who !== "service" && (
                <span className="text-faint"> · by {event.who}</span>
              )}
            </span>
          </li>
        ))}
      </ol>
    </section>
  );
}
