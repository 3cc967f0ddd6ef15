import { Link } from "react-router";
import type { ServiceStatus } from "../api/types";
import { useLive } from "../api/useLive";
import { useEvents } from "../endpoint/useEvents";
import { EventList } from "../endpoint/Events";
import { Empty } from "../frame/State";
import { FirstSteps } from "./FirstSteps";
import { Fleet } from "./Fleet";
import { useFirstSteps } from "./useFirstSteps";

/** Is anything wrong now, and where? */
export function Watch() {
  const { status } = useLive();
  const [first, setFirst] = useFirstSteps(status);
  if (!status) return <Empty>Connecting to the service…</Empty>;
  if (first)
    return <FirstSteps served={status.endpoints[0]?.name ?? null} onDone={() => setFirst(false)} />;
  return <Whole status={status} />;
}

function Whole({ status }: { status: ServiceStatus }) {
  const events = useEvents(null, status.endpoints);
  return (
    <div className="flex flex-col gap-5">
      <div className="flex flex-wrap items-center justify-between gap-3">
        <h2 className="text-lg font-semibold">Watch</h2>
        <Link to="/console/deploy" className="bg-ink px-4 py-1.5 text-paper">
          Deploy an endpoint
        </Link>
      </div>
      <Fleet status={status} />
      {events.length > 0 && (
        <section aria-label="Events">
          <h3 className="font-medium">What happened last</h3>
          <EventList events={events} withEndpoint />
        </section>
      )}
    </div>
  );
}
