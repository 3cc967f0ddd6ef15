import type { Connection } from "../api/live";
import { Buoy } from "./Buoy";

/** How the service stands, in a word with its buoy. */
export function Condition({ connection, state }: { connection: Connection; state?: string }) {
  const words = {
    looking: "connecting",
    lost: "not answering",
    denied: "not signed in",
    limited: "for calls only",
    connected: state ?? "connecting",
  };
  const text = words[connection.kind];
  return (
    <p className="flex items-center gap-2 font-medium" role="status">
      <Buoy state={connection.kind === "limited" ? "ready" : text} />
      {text}
    </p>
  );
}
