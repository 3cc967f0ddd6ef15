import { useEffect, useId, useState } from "react";
import type { FitAnswer } from "../api/types";
import { deviceName, grouped } from "../numbers";
import { CALLERS, KV, SHARES, TOKENS, WEIGHTS, WIDTHS, contexts, type Question } from "./question";
import { Choice, Slide } from "./Setting";

/** What is asked: model, devices and settings. */
export function Settings({
  question,
  answer,
  endpoints,
  onChange,
}: {
  question: Question;
  answer: FitAnswer | null;
  endpoints: string[];
  onChange: (changed: Partial<Question>) => void;
}) {
  const devices = answer?.devices ?? [];
  const prompt = question.prompt ?? answer?.report.typical[0] ?? 1536;
  const typicalAnswer = question.answer ?? answer?.report.typical[1] ?? 512;
  const same = (value: string) => [value, value] as const;
  const tokens = (count: number) => `${grouped(count)} tokens`;
  return (
    <section aria-label="Settings" className="flex flex-col gap-4 border border-line bg-sheet p-5">
      <Model key={question.model} question={question} endpoints={endpoints} onChange={onChange} />
      <Choice
        name="Devices"
        field="device"
        value={question.device}
        values={
          devices.length > 0
            ? devices.map((device) => [
                device.name,
                deviceName({ device: device.name, simulated: device.simulated }),
              ])
            : [same(question.device)]
        }
        onChange={(device) => onChange({ device, split: null, width: null, memory_share: null })}
      />
      <div className="grid grid-cols-2 gap-4">
        <Choice
          name="Weights"
          field="weights"
          value={question.weights}
          values={WEIGHTS.map(same)}
          onChange={(weights) => onChange({ weights, split: null })}
        />
        <Choice
          name="KV"
          field="kv"
          value={question.kv}
          values={KV.map(same)}
          onChange={(kv) => onChange({ kv, split: null })}
        />
      </div>
      <Slide
        name="Context"
        field="context"
        value={question.context ?? answer?.report.context ?? 0}
        values={contexts(answer?.model_context ?? 4096)}
        words={tokens}
        onChange={(context) => onChange({ context })}
      />
      <Slide
        name="Width"
        field="width"
        value={question.width ?? answer?.report.width ?? 1}
        values={WIDTHS}
        words={(width) => `${width} sequences`}
        onChange={(width) => onChange({ width })}
      />
      <Slide
        name="Memory share"
        field="memory_share"
        value={question.memory_share ?? answer?.report.memory_share ?? 1}
        values={SHARES}
        words={(share) => `${Math.round(share * 100)} %`}
        onChange={(memory_share) => onChange({ memory_share })}
      />
      <Slide
        name="Typical prompt"
        field="prompt"
        value={prompt}
        values={TOKENS}
        words={tokens}
        onChange={(prompt) => onChange({ prompt, answer: typicalAnswer })}
      />
      <Slide
        name="Typical answer"
        field="answer"
        value={typicalAnswer}
        values={TOKENS}
        words={tokens}
        onChange={(answer) => onChange({ answer, prompt })}
      />
      <Slide
        name="Full sequences at once"
        field="concurrency"
        value={question.concurrency}
        values={CALLERS}
        words={grouped}
        onChange={(concurrency) => onChange({ concurrency })}
      />
    </section>
  );
}

/** The model: an endpoint, or a path on the service's machine. */
function Model({
  question,
  endpoints,
  onChange,
}: {
  question: Question;
  endpoints: string[];
  onChange: (changed: Partial<Question>) => void;
}) {
  const [text, setText] = useState(question.model);
  const [id, list] = [useId(), useId()];
  useEffect(() => setText(question.model), [question.model]);
  const say = () =>
    text !== question.model && onChange({ model: text, split: null, context: null });
  return (
    <form
      className="flex flex-col gap-1 text-sm"
      onSubmit={(event) => {
        event.preventDefault();
        say();
      }}
    >
      <label htmlFor={id}>Model: an endpoint, or a path on the service’s machine</label>
      <input
        id={id}
        name="model"
        list={list}
        value={text}
        onChange={(event) => setText(event.target.value)}
        onBlur={say}
        className="border border-ink/60 bg-paper px-2 py-1 font-mono"
      />
      <datalist id={list}>
        {endpoints.map((name) => (
          <option key={name} value={name} />
        ))}
      </datalist>
    </form>
  );
}
