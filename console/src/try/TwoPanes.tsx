import { useState, type FormEvent } from "react";
import { Answer } from "./Answer";
import { firstDifference } from "./differs";
import { Fields } from "./Fields";
import { Question } from "./Question";
import { chatBody, NO_OPTIONS } from "./options";
import { useAsk, type Asked } from "./useAsk";

/** One question, asked twice in different ways, with the first token that differs marked. */
export function TwoPanes({
  models,
  question,
  setQuestion,
}: {
  models: string[];
  question: string;
  setQuestion: (question: string) => void;
}) {
  const [left, right] = [usePane(models, 0), usePane(models, 1)];
  const busy = left.asked.busy || right.asked.busy;
  const over = (asked: Asked) => asked.phase === "done";
  const differs = firstDifference(
    left.asked.tokens,
    right.asked.tokens,
    over(left.asked) && over(right.asked),
  );

  function send(event: FormEvent) {
    event.preventDefault();
    for (const pane of [left, right]) {
      void pane.asked.send(chatBody(pane.model, question, pane.options), pane.options.stream);
    }
  }

  return (
    <form onSubmit={send} aria-label="Request" className="flex flex-col gap-4">
      <Question label="Question for both" {...{ question, setQuestion }} />
      <div className="flex items-center gap-4">
        <button
          type="submit"
          disabled={busy || question.trim() === ""}
          className="bg-ink px-5 py-2 font-medium text-paper disabled:opacity-50"
        >
          Ask both
        </button>
        <p data-difference className="text-sm text-faint">
          {differs !== undefined
            ? `The answers differ from token ${differs + 1} on, which is marked.`
            : over(left.asked) && over(right.asked)
              ? "Both answers are the same, token by token."
              : ""}
        </p>
      </div>
      <div className="grid items-start gap-5 lg:grid-cols-2">
        {[left, right].map((pane, index) => (
          <section
            key={index}
            aria-label={index === 0 ? "First pane" : "Second pane"}
            className="flex min-w-0 flex-col gap-3 border border-line bg-sheet p-5"
          >
            <Fields {...pane} models={models} prefix={index === 0 ? "first-" : "second-"} />
            <Answer asked={pane.asked} differs={differs} />
          </section>
        ))}
      </div>
    </form>
  );
}

function usePane(models: string[], index: number) {
  const [model, setModel] = useState(models[index] ?? models[0] ?? "");
  const [options, setOptions] = useState(NO_OPTIONS);
  return { model, setModel, options, setOptions, asked: useAsk() };
}
