import { useLive } from "../api/useLive";
import { Empty } from "../frame/State";
import { AskDesk } from "./AskDesk";

/** What does it answer, and how fast? */
export function Try() {
  const { status } = useLive();
  if (!status) return <Empty>Looking for the service…</Empty>;
  if (status.models.length === 0) return <Empty>There is no model to try.</Empty>;
  return <AskDesk models={status.models.map((model) => model.name)} />;
}
