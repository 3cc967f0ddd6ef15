import { useRef, useState, type FormEvent } from "react";
import { milliseconds } from "../figures";
import { ask, type Measured } from "./stream";

/** What has become of the question. */
type Phase = "idle" | "waiting" | "answering" | "done" | "failed";

/** Ask a model and watch the answer come. */
export function AskDesk({ models }: { models: string[] }) {
  const [model, setModel] = useState(models[0] ?? "");
  const [question, setQuestion] = useState("When is the last boat back on Sunday?");
  const [answer, setAnswer] = useState("");
  const [phase, setPhase] = useState<Phase>("idle");
  const [measured, setMeasured] = useState<Measured>();
  const [trouble, setTrouble] = useState("");
  const cancel = useRef<AbortController>(null);
  const busy = phase === "waiting" || phase === "answering";

  async function send(event: FormEvent) {
    event.preventDefault();
    const controller = new AbortController();
    cancel.current = controller;
    setAnswer("");
    setMeasured(undefined);
    setPhase("waiting");
    try {
      const figures = await ask(
        model,
        question,
        (text) => {
          setPhase("answering");
          setAnswer((before) => before + text);
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

  return (
    <section aria-label="Ask" className="flex flex-col gap-3 border border-line bg-sheet p-5">
      <h2 className="text-lg font-semibold">Ask</h2>
      <form onSubmit={send} className="flex flex-col gap-3">
        {models.length > 1 && (
          <label className="text-sm">
            Model
            <select
              value={model}
              onChange={(event) => setModel(event.target.value)}
              className="ml-2 border border-ink/60 bg-paper px-2 py-1 font-mono"
            >
              {models.map((name) => (
                <option key={name}>{name}</option>
              ))}
            </select>
          </label>
        )}
        <label className="flex flex-col gap-1 text-sm">
          Question for {model}
          <textarea
            name="question"
            rows={2}
            value={question}
            onChange={(event) => setQuestion(event.target.value)}
            className="border border-ink/60 bg-paper px-3 py-2 text-base"
          />
        </label>
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
      </form>
      <div aria-live="polite" className="min-h-28 border-t border-line pt-3">
        {phase === "idle" && <p className="text-faint">The answer will appear here.</p>}
        {phase === "waiting" && <p className="text-faint">Waiting for the first token…</p>}
        <p data-answer className="whitespace-pre-wrap">
          {answer}
        </p>
        {phase === "failed" && (
          <p role="alert" className="mt-2 border-l-4 border-red px-3">
            {trouble}
          </p>
        )}
        {measured && (
          <p data-figures className="mt-3 font-mono text-xs text-faint">
            first token after {milliseconds(measured.ttft)} · {milliseconds(measured.itl_mean)}{" "}
            between tokens · {measured.prompt_tokens} tokens in, {measured.output_tokens} out ·{" "}
            {measured.ended}
          </p>
        )}
      </div>
      <p className="text-sm text-faint">
        From code: any OpenAI client with the base address{" "}
        <code className="font-mono text-ink">{window.location.origin}/v1</code> and{" "}
        <code className="font-mono text-ink">{model}</code> in <code>model</code>.
      </p>
    </section>
  );
}
