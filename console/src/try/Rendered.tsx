import { useState } from "react";
import { call } from "../api/call";
import type { RenderAnswer } from "../api/types";
import { Trouble } from "../frame/State";
import type { AskBody } from "./options";

/** What the model would get: the template's words and their token ids, before anything is sent. */
export function Rendered({ body }: { body: AskBody }) {
  const [answer, setAnswer] = useState<RenderAnswer | null>(null);
  const [error, setError] = useState<Error | null>(null);
  async function look() {
    try {
      const { model, messages } = body;
      setAnswer(
        await call("/text/render", { method: "POST", body: JSON.stringify({ model, messages }) }),
      );
      setError(null);
    } catch (error) {
      setError(error as Error);
    }
  }
  return (
    <section className="border border-line bg-sheet p-4">
      <div className="flex flex-wrap items-center gap-3">
        <h3 className="text-sm text-faint">Prompt as the model receives it</h3>
        <button
          type="button"
          onClick={() => void look()}
          className="ml-auto border border-ink px-3 py-0.5 text-sm"
        >
          Show
        </button>
      </div>
      {error && <Trouble error={error} />}
      {answer && (
        <>
          <pre
            data-rendered
            className="mt-2 bg-shoal px-3 py-2 font-mono text-xs whitespace-pre-wrap"
          >
            {answer.text}
          </pre>
          <p className="mt-2 font-mono text-xs break-words text-faint">
            {answer.token_ids.length} tokens: {answer.token_ids.join(" ")}
          </p>
        </>
      )}
    </section>
  );
}
