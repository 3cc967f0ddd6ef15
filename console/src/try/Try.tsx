import { useState } from "react";
import { useSearchParams } from "react-router";
import { names } from "../api/names";
import { useModels } from "../api/useModels";
import { Empty, Trouble } from "../frame/State";
import { AskPanel } from "./AskPanel";
import { TwoPanes } from "./TwoPanes";

/** What does it answer, how fast, and how do I call it from code? */
export function Try() {
  const { value, error, again } = useModels();
  const [query, setQuery] = useSearchParams();
  const [question, setQuestion] = useState("When is the last boat back on Sunday?");
  if (error && !value) return <Trouble error={error} again={again} />;
  if (!value) return <Empty>Loading…</Empty>;
  const models = value.data;
  if (models.length === 0) return <Empty>There are no endpoints. Deploy one first.</Empty>;
  const two = query.get("panes") === "2";
  const set = (name: string, wanted: string | null) => {
    const next = new URLSearchParams(query);
    if (wanted === null) next.delete(name);
    else next.set(name, wanted);
    setQuery(next, { replace: true });
  };
  return (
    <div className="flex flex-col gap-4">
      <div className="flex flex-wrap items-center justify-between gap-3">
        <h2 className="text-lg font-semibold">Ask</h2>
        <label className="flex items-center gap-2 text-sm">
          <input
            name="two"
            type="checkbox"
            checked={two}
            onChange={(event) => set("panes", event.target.checked ? "2" : null)}
          />
          compare two answers
        </label>
      </div>
      {two ? (
        <TwoPanes models={names(models)} {...{ question, setQuestion }} />
      ) : (
        <AskPanel
          models={models}
          wanted={query.get("model")}
          choose={(model) => set("model", model)}
          {...{ question, setQuestion }}
        />
      )}
    </div>
  );
}
