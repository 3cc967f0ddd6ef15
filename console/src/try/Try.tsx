import { useState } from "react";
import { useSearchParams } from "react-router";
import { names } from "../api/names";
import { useLive } from "../api/useLive";
import { Empty } from "../frame/State";
import { AskDesk } from "./AskDesk";
import { TwoPanes } from "./TwoPanes";

/** What does it answer, and how fast? */
export function Try() {
  const { status } = useLive();
  const [query, setQuery] = useSearchParams();
  const [question, setQuestion] = useState("When is the last boat back on Sunday?");
  if (!status) return <Empty>Connecting to the service…</Empty>;
  if (status.endpoints.length === 0)
    return <Empty>There are no endpoints. Deploy one first.</Empty>;
  const models = names(status.endpoints);
  const two = query.get("panes") === "2";
  return (
    <div className="flex flex-col gap-4">
      <div className="flex flex-wrap items-center justify-between gap-3">
        <h2 className="text-lg font-semibold">Ask</h2>
        <label className="flex items-center gap-2 text-sm">
          <input
            name="two"
            type="checkbox"
            checked={two}
            onChange={(event) =>
              setQuery(event.target.checked ? { panes: "2" } : {}, { replace: true })
            }
          />
          compare two answers
        </label>
      </div>
      {two ? (
        <TwoPanes {...{ models, question, setQuestion }} />
      ) : (
        <AskDesk {...{ models, question, setQuestion }} />
      )}
    </div>
  );
}
