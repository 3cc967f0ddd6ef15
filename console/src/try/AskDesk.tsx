import { useEffect, useRef, useState, type FormEvent } from "react";
import { milliseconds } from "../figures";
import { Code } from "./Code";
import { Gaps } from "./Gaps";
import { chatBody, NO_OPTIONS, type Options } from "./options";
import { Rendered } from "./Rendered";
import { ask, type Measured, type Token } from "./stream";

/** What has become of the question. */
type Phase = "idle" | "waiting" | "answering" | "done" | "failed";

const FIELDS = [
  ["temperature", "Temperature", "the model's"],
  ["top_p", "Top p", "the model's"],
  ["max_tokens", "Most tokens", "what fits"],
  ["seed", "Seed", "drawn"],
  ["stop", "Stop before", "nothing"],
] as const;

/** Why an answer ended, and what to change when it was cut. */
const ENDS: Record<string, string> = {
  "end-token": "The model ended it.",
  "stop-string": "It was about to say what it should stop before.",
  length:
    "It was cut: it has as many tokens as it may. More of them, or a larger context, let it go on.",
  deadline: "It was cut: its time was up.",
};

/** Ask a model and watch the answer come. */
export function AskDesk({ models }: { models: string[] }) {
  const [model, setModel] = useState(models[0] ?? "");
  const [question, setQuestion] = useState("When is the last boat back on Sunday?");
  const [options, setOptions] = useState<Options>(NO_OPTIONS);
  const [answer, setAnswer] = useState("");
  const [tokens, setTokens] = useState<Token[]>([]);
  const [phase, setPhase] = useState<Phase>("idle");
  const [measured, setMeasured] = useState<Measured>();
  const [trouble, setTrouble] = useState("");
  const cancel = useRef<AbortController>(null);
  const busy = phase === "waiting" || phase === "answering";
  const body = chatBody(model, question, options);

  async function send(event: FormEvent) {
    event.preventDefault();
    const controller = new AbortController();
    cancel.current = controller;
    setAnswer("");
    setTokens([]);
    setMeasured(undefined);
    setPhase("waiting");
    try {
      const figures = await ask(
        body,
        (text, more) => {
          setPhase("answering");
          setAnswer((before) => before + text);
          setTokens((before) => [...before, ...more]);
        },
        controller.signal,
      );
      setMeasured(figures);
      setPhase("done");
    } catch (error) {
      setTrouble(controller.signal.aborted ? "Stopped." : String((error as Error).message));
      setPhase("failed");
    }
  }

  const field = "border border-ink/60 bg-paper px-2 py-1";
  return (
    <div className="grid items-start gap-5 lg:grid-cols-2">
      <form
        onSubmit={send}
        aria-label="Request"
        className="flex min-w-0 flex-col gap-3 border border-line bg-sheet p-5"
      >
        <h2 className="text-lg font-semibold">Ask</h2>
        {models.length > 1 && (
          <label className="text-sm">
            Model
            <select
              value={model}
              onChange={(event) => setModel(event.target.value)}
              className={`ml-2 font-mono ${field}`}
            >
              {models.map((name) => (
                <option key={name}>{name}</option>
              ))}
            </select>
          </label>
        )}
        <label className="flex flex-col gap-1 text-sm">
          System: what the model is told before
          <textarea
            name="system"
            rows={1}
            value={options.system}
            onChange={(event) => setOptions({ ...options, system: event.target.value })}
            className={`${field} text-base`}
          />
        </label>
        <label className="flex flex-col gap-1 text-sm">
          Question for {model}
          <textarea
            name="question"
            rows={2}
            value={question}
            onChange={(event) => setQuestion(event.target.value)}
            className={`${field} text-base`}
          />
        </label>
        <div className="flex flex-wrap gap-3">
          {FIELDS.map(([name, label, usual]) => (
            <label key={name} className="flex flex-col text-sm">
              {label}
              <input
                name={name}
                value={options[name]}
                placeholder={usual}
                inputMode={name === "stop" ? "text" : "decimal"}
                onChange={(event) => setOptions({ ...options, [name]: event.target.value })}
                className={`${field} w-28 font-mono`}
              />
            </label>
          ))}
        </div>
        <div className="flex gap-3">
          <button
            type="submit"
            disabled={busy || question.trim() === ""}
            className="bg-ink px-5 py-2 font-medium text-paper disabled:opacity-50"
          >
            Ask
          </button>
          {busy && (
            <button
              type="button"
              onClick={() => cancel.current?.abort()}
              className="border border-ink px-5 py-2"
            >
              Stop
            </button>
          )}
        </div>
        <div aria-live="polite" className="min-h-28 border-t border-line pt-3">
          {phase === "idle" && <p className="text-faint">The answer will appear here.</p>}
          {phase === "waiting" && <Waiting />}
          <p data-answer className="whitespace-pre-wrap">
            {answer}
          </p>
          {phase === "failed" && (
            <p role="alert" className="mt-2 border-l-4 border-red px-3">
              {trouble}
            </p>
          )}
        </div>
        <Gaps tokens={tokens} />
        {measured && (
          <p data-figures className="font-mono text-xs text-faint">
            queued {milliseconds(measured.queued)} · prefill {milliseconds(measured.prefill)} ·
            first token after {milliseconds(measured.ttft)} · {milliseconds(measured.itl_mean)}{" "}
            between tokens · {measured.prompt_tokens} tokens in, {measured.output_tokens} out ·{" "}
            {measured.ended}
          </p>
        )}
        {measured && <p className="text-sm">{ENDS[measured.ended] ?? ""}</p>}
      </form>
      <div className="flex min-w-0 flex-col gap-5">
        <Code body={body} />
        <Rendered body={body} />
      </div>
    </div>
  );
}

/** How long the first token has been waited for. */
function Waiting() {
  const [seconds, setSeconds] = useState(0);
  useEffect(() => {
    const begun = performance.now();
    const timer = window.setInterval(() => setSeconds((performance.now() - begun) / 1000), 100);
    return () => window.clearInterval(timer);
  }, []);
  return (
    <p className="text-faint">
      Waiting for the first token: queued or in prefill, {seconds.toFixed(1)} s…
    </p>
  );
}
