import { lazy, Suspense, useState, type FormEvent } from "react";
import { names } from "../api/names";
import type { ModelEntry } from "../api/types";
import { Empty } from "../frame/State";
import { Address } from "./Address";
import { Answer } from "./Answer";
import { Code } from "./Code";
import { Fields } from "./Fields";
import { Question } from "./Question";
import { chatBody, NO_OPTIONS, plainBody, type AskBody, type Turn } from "./options";
import { Rendered } from "./Rendered";
import { isAway, Availability } from "./Availability";
import { Turns } from "./Turns";
import { useAsk } from "./useAsk";

// An editor is large, and few need it.
const JsonEditor = lazy(() => import("./JsonEditor"));

const MODES = [
  ["chat", "Conversation"],
  ["plain", "Plain text"],
] as const;
type Mode = (typeof MODES)[number][0];

/** Ask a model and watch the answer come, turn by turn. */
export function AskPanel({
  models,
  wanted,
  choose,
  question,
  setQuestion,
}: {
  models: ModelEntry[];
  /** The endpoint that the page's address names. */
  wanted: string | null;
  choose: (model: string) => void;
  question: string;
  setQuestion: (question: string) => void;
}) {
  const known = names(models);
  const model = wanted !== null && known.includes(wanted) ? wanted : known[0]!;
  const entry = models.find(({ id }) => id === model)!;
  const [options, setOptions] = useState(NO_OPTIONS);
  const [liked, setLiked] = useState<Mode>("chat");
  const modes = entry.modes ?? ["chat", "plain"];
  const mode: Mode = modes.includes(liked) ? liked : modes.includes("plain") ? "plain" : "chat";
  const [turns, setTurns] = useState<Turn[]>([]);
  // What was asked last, and answered beside its figures, is a turn as soon as there is another question.
  const [last, setLast] = useState<Turn[]>([]);
  // The question whose answer is shown.
  const [sent, setSent] = useState<Turn | null>(null);
  // The request as JSON, while it is written that way; and what was last right of it.
  const [text, setText] = useState<string | null>(null);
  const [written, setWritten] = useState<AskBody | null>(null);
  const asked = useAsk();
  const before = [...turns, ...last];
  const form =
    mode === "chat"
      ? chatBody(model, question, options, before)
      : plainBody(model, question, options);
  const body = text === null ? form : written;

  async function send(event: FormEvent) {
    event.preventDefault();
    if (!body) return;
    setTurns(before);
    setLast([]);
    setSent(mode === "chat" && text === null ? { role: "user", content: question } : null);
    const answer = await asked.send(body, options.stream);
    if (answer !== null && text === null && mode === "chat") {
      setLast([
        { role: "user", content: question },
        { role: "assistant", content: answer },
      ]);
    }
  }

  function clear() {
    setTurns([]);
    setLast([]);
    setSent(null);
    asked.clear();
  }

  return (
    <div className="grid items-start gap-5 lg:grid-cols-2">
      <form
        onSubmit={(event) => void send(event)}
        aria-label="Request"
        className="flex min-w-0 flex-col gap-3 border border-line bg-sheet p-5"
      >
        <div className="flex flex-wrap items-center gap-x-4 gap-y-2 text-sm">
          <div role="group" aria-label="Request format" className="flex">
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
          {text === null && modes.length > 1 && (
            <div role="group" aria-label="Kind of request" className="flex">
              {MODES.map(([value, name]) => (
                <button
                  key={value}
                  type="button"
                  aria-pressed={value === mode}
                  onClick={() => {
                    setLiked(value);
                    clear();
                  }}
                  className={`border border-ink/60 px-3 py-0.5 ${value === mode ? "bg-ink text-paper" : ""}`}
                >
                  {name}
                </button>
              ))}
            </div>
          )}
          {sent !== null && (
            <button type="button" onClick={clear} className="ml-auto border border-ink px-3 py-0.5">
              New conversation
            </button>
          )}
        </div>
        <Availability model={entry} />
        {text === null ? (
          <>{mode === "chat" && <Turns turns={sent === null ? turns : [...turns, sent]} />}</>
        ) : null}
        <Answer asked={asked} defaults={entry.defaults} />
        {text === null ? (
          <>
            <Question
              label={mode === "chat" ? `Question for ${model}` : `Text for ${model} to continue`}
              {...{ question, setQuestion }}
            />
            <Fields
              models={known}
              model={model}
              setModel={(model) => {
                clear();
                choose(model);
              }}
              plain={mode === "plain"}
              {...{ options, setOptions }}
            />
          </>
        ) : (
          <Suspense fallback={<Empty>Loading the editor…</Empty>}>
            <JsonEditor
              text={text}
              kind={mode === "chat" ? "ChatRequest" : "CompletionRequest"}
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
            disabled={asked.busy || !body || question.trim() === "" || isAway(entry)}
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
        {Number(body?.n) > 1 && (
          <p className="text-sm text-faint">Of {Number(body?.n)} answers the first is shown.</p>
        )}
      </form>
      <div className="flex min-w-0 flex-col gap-5">
        <section className="border border-line bg-sheet p-4">
          <Address model={model} />
        </section>
        {body ? (
          <>
            <Code body={options.stream ? body : { ...body, stream: false }} />
            {body.messages && <Rendered body={body} />}
          </>
        ) : (
          <Empty>
            When the request is valid, this shows it as code and as the prompt the model receives.
          </Empty>
        )}
      </div>
    </div>
  );
}
