import { Link } from "react-router";
import type { EndpointEvent } from "../api/types";
import { ago } from "../numbers";

/** Why something happened; a request that it happened to leads to its page. */
function Why({ event }: { event: EndpointEvent }) {
  const end = event.why.indexOf(",");
  if (event.what !== "request_moved" || end < 0) return event.why;
  const id = event.why.slice(0, end);
  return (
    <>
      <Link
        className="font-mono text-xs underline underline-offset-4"
        to={`/console/requests/${encodeURIComponent(id)}`}
      >
        {id.slice(0, 12)}
      </Link>
      {event.why.slice(end)}
    </>
  );
}

/** What happened to an endpoint, newest first. */
export function Events({ events }: { events: EndpointEvent[] }) {
  if (events.length === 0) return null;
  return (
    <section aria-label="Events">
      <h3 className="font-medium">
        Events{" "}
        <span className="ml-2 text-sm font-normal text-faint">
          <span className="mr-1 inline-block h-3 w-0.5 bg-lamp align-middle" aria-hidden /> as
          marked in the charts
        </span>
      </h3>
      <EventList events={events} />
    </section>
  );
}

/** Events, newest first; those of several endpoints with their names. */
export function EventList({
  events,
  withEndpoint = false,
}: {
  events: EndpointEvent[];
  withEndpoint?: boolean;
}) {
  return (
    <ol tabIndex={0} className="mt-1 max-h-56 overflow-y-auto text-sm">
      {events.map((event) => (
        <li
          key={event.number}
          className="grid grid-cols-[5.5rem_1fr] gap-x-3 border-t border-line py-1 md:grid-cols-[5.5rem_9rem_1fr]"
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
          <span className="col-span-2 min-w-0 break-words md:col-span-1">
            {withEndpoint && event.endpoint && <b className="font-medium">{event.endpoint}: </b>}
            <Why event={event} />
            {event.who && event.who !== "service" && (
              <span className="text-faint"> · by {event.who}</span>
            )}
          </span>
        </li>
      ))}
    </ol>
  );
}
