import { lazy, Suspense, useState, type FormEvent } from "react";
import { Empty } from "../frame/State";
import { Answer } from "./Answer";
import { Code } from "./Code";
import { Fields } from "./Fields";
import { Question } from "./Question";
import { chatBody, NO_OPTIONS, type ChatBody } from "./options";
import { Rendered } from "./Rendered";
import { useAsk } from "./useAsk";

// An editor is large, and few need it.
const JsonEditor = lazy(() => import("./JsonEditor"));

/** Ask a model and watch the answer come. */
export function AskDesk({
  models,
  question,
  setQuestion,
}: {
  models: string[];
  question: string;
  setQuestion: (question: string) => void;
}) {
  const [model, setModel] = useState(models[0] ?? "");
  const [options, setOptions] = useState(NO_OPTIONS);
  // The request as JSON, while it is written that way; and what was last right of it.
  const [text, setText] = useState<string | null>(null);
  const [written, setWritten] = useState<ChatBody | null>(null);
  const asked = useAsk();
  const form = chatBody(model, question, options);
  const body = text === null ? form : written;

  function send(event: FormEvent) {
    event.preventDefault();
    if (body) void asked.send(body);
  }

  return (
    <div className="grid items-start gap-5 lg:grid-cols-2">
      <form
        onSubmit={send}
        aria-label="Request"
        className="flex min-w-0 flex-col gap-3 border border-line bg-sheet p-5"
      >
        <div role="group" aria-label="Request format" className="flex text-sm">
          {(["Form", "JSON"] as const).map((name) => (
            <button
              key={name}
              type="button"
              aria-pressed={(name === "JSON") === (text !== null)}
              onClick={() => {
                setText(name === "JSON" ? (text ?? JSON.stringify(form, null, 2)) : null);
                setWritten(form);
              }}
              className={`border border-ink/60 px-3 py-0.5 ${(name === "JSON") === (text !== null) ? "bg-ink text-paper" : ""}`}
            >
              {name}
            </button>
          ))}
        </div>
        {text === null ? (
          <>
            <Question label={`Question for ${model}`} {...{ question, setQuestion }} />
            <Fields {...{ models, model, setModel, options, setOptions }} />
          </>
        ) : (
          <Suspense fallback={<Empty>Loading the editor…</Empty>}>
            <JsonEditor
              text={text}
              refused={asked.trouble && { field: asked.field, message: asked.trouble.message }}
              onChange={(text, body) => {
                setText(text);
                setWritten(body);
              }}
            />
          </Suspense>
        )}
        <div className="flex gap-3">
          <button
            type="submit"
            disabled={asked.busy || !body || question.trim() === ""}
            className="bg-ink px-5 py-2 font-medium text-paper disabled:opacity-50"
          >
            Ask
          </button>
          {asked.busy && (
            <button type="button" onClick={asked.stop} className="border border-ink px-5 py-2">
              Stop
            </button>
          )}
        </div>
        <Answer asked={asked} />
        {Number(body?.n) > 1 && (
          <p className="text-sm text-faint">Of {Number(body?.n)} answers the first is shown.</p>
        )}
      </form>
      {body ? (
        <div className="flex min-w-0 flex-col gap-5">
          <Code body={body} />
          <Rendered body={body} />
        </div>
      ) : (
        <Empty>
          When the request is valid, this shows it as code and as the prompt the model receives.
        </Empty>
      )}
    </div>
  );
}
