import { useEffect, useState } from "react";
import { live } from "../api/live";
import type { ModelDefaults } from "../api/types";
import { hundredths, timing } from "../numbers";
import { Gaps } from "./Gaps";
import type { Asked } from "./useAsk";

/** Why an answer ended, and what to change when it was cut. */
const ENDS: Record<string, string> = {
  "end-token": "The model ended it.",
  "stop-string": "It was about to say what it should stop before.",
  length:
    "It was cut: it has as many tokens as it may. More of them, or a larger context, let it go on.",
  deadline: "It was cut: its time was up.",
};

/** An answer as it comes, what was measured of it, and why it ended; `differs` is the first token that another lacks. */
export function Answer({
  asked,
  differs,
  defaults,
}: {
  asked: Asked;
  differs?: number;
  defaults?: ModelDefaults | null;
}) {
  const { phase, answer, tokens, measured, trouble } = asked;
  return (
    <>
      <div aria-live="polite" className="min-h-20">
        {phase === "idle" && <p className="text-faint">The answer will appear here.</p>}
        {phase === "waiting" && <Waiting id={asked.id} />}
        <p data-answer className="whitespace-pre-wrap">
          <Marked asked={asked} differs={differs} text={answer} />
        </p>
        {phase === "failed" && (
          <p role="alert" className="mt-2 border-l-4 border-red px-3">
            {trouble?.message}
          </p>
        )}
      </div>
      <Gaps tokens={tokens} />
      {measured && (
        <p data-figures className="font-mono text-xs text-faint">
          {(measured.waiting_for_start ?? 0) > 0 &&
            `waiting for start ${timing(measured.waiting_for_start ?? 0)} · `}
          queued {timing(measured.queued)} · prefill {timing(measured.prefill)} · first token after{" "}
          {timing(measured.ttft)} · {timing(measured.itl_mean)} between tokens ·{" "}
          {measured.prompt_tokens} tokens in, {measured.output_tokens} out · {measured.ended}
        </p>
      )}
      {measured && <p className="text-sm">{ENDS[measured.ended] ?? ""}</p>}
      {measured && defaults && (
        <p data-defaults className="text-sm text-faint">
          Where the question said nothing, the endpoint’s defaults held: {inWords(defaults)}.
        </p>
      )}
    </>
  );
}

/** The sampling of an endpoint where a call says nothing. */
function inWords({ temperature, top_p, top_k, max_tokens }: ModelDefaults): string {
  const said = [
    temperature != null && `temperature ${hundredths(temperature)}`,
    top_p != null && `top_p ${hundredths(top_p)}`,
    top_k != null && `top_k ${top_k}`,
    max_tokens != null ? `at most ${max_tokens} tokens` : "as many tokens as the context allows",
  ];
  return said.filter(Boolean).join(", ");
}

/** The answer with its first differing token marked. */
function Marked({ asked, differs, text }: { asked: Asked; differs?: number; text: string }) {
  const token = differs === undefined ? undefined : asked.tokens[differs];
  if (!token) return text;
  const from = asked.tokens.slice(0, differs).reduce((sum, { text }) => sum + text.length, 0);
  return (
    <>
      {text.slice(0, from)}
      <mark
        data-differs
        title="The first token that differs"
        className="border-b-2 border-red bg-lamp/40 text-ink"
      >
        {text.slice(from, from + token.text.length)}
      </mark>
      {text.slice(from + token.text.length)}
    </>
  );
}

/** What is waited for, and how long: a place in the batch, then the prompt to be computed. */
function Waiting({ id }: { id: string }) {
  const [begun] = useState(() => performance.now());
  const [now, setNow] = useState(begun);
  useEffect(() => {
    const timer = window.setInterval(() => setNow(performance.now()), 100);
    return () => window.clearInterval(timer);
  }, []);
  const admitted = live.admitted.get(id);
  const seconds = (from: number, to: number) => `${(Math.max(0, to - from) / 1000).toFixed(1)} s`;
  return (
    <p data-phase className="flex items-center gap-2 text-faint">
      <span aria-hidden="true" className="inline-block size-3 rounded-full bg-lamp" />
      {admitted === undefined
        ? `Queued for ${seconds(begun, now)}: waiting for the batch.`
        : `Prefill for ${seconds(admitted, now)}, after ${seconds(begun, admitted)} in the queue.`}
    </p>
  );
}
