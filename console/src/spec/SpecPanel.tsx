import { useCallback, useEffect, useState } from "react";
import { call } from "../api/call";
import { change } from "../api/change";
import type { EndpointDetail } from "../api/types";
import { useAnswer } from "../api/useAnswer";
import type { Schema, Schemas } from "../editor/schema";
import { Trouble } from "../frame/State";
import { Plan } from "./Plan";
import { SpecForm } from "./SpecForm";
import { TomlEditor } from "./TomlEditor";
import { useCheck } from "./useCheck";

/** A spec by form or as TOML, what will happen when it is deployed, and the button that does it. */
export default function SpecPanel({
  name,
  text: written,
  beside,
  from,
  onDeployed,
}: {
  name: string;
  text: string;
  /** The folder that paths in the spec begin at. */
  beside: string;
  /** The release that it is a change of. */
  from?: number;
  onDeployed: () => void;
}) {
  // What the text began as.
  const [base, setBase] = useState({ text: written, from });
  const [text, setText] = useState(written);
  const [asForm, setAsForm] = useState(false);
  const [pause, setPause] = useState(false);
  const [busy, setBusy] = useState(false);
  const [trouble, setTrouble] = useState<Error | null>(null);
  const schema = useAnswer<Schema & { $defs?: Schemas }>("/spec-schema.json").value ?? {};
  const checked = useCheck(name, text, beside);
  const { check } = checked;
  async function deploy() {
    setBusy(true);
    setTrouble(null);
    const body = JSON.stringify({
      name,
      spec: text,
      beside,
      from_release: base.from,
      with_pause: pause,
    });
    try {
      await change("/manage/endpoints", { method: "POST", body });
      const path = `/manage/endpoints/${encodeURIComponent(name)}`;
      const { status } = await call<EndpointDetail>(path);
      setBase({ text, from: status?.release });
      onDeployed();
    } catch (error) {
      setTrouble(error as Error);
    }
    setBusy(false);
  }
  // Somebody else has deployed another release: what was not touched follows, what was written here stays.
  const overtaken = from !== undefined && base.from !== undefined && from > base.from;
  const untouched = text === base.text;
  const take = useCallback(() => {
    setBase({ text: written, from });
    setText(written);
  }, [written, from]);
  useEffect(() => {
    if (overtaken && untouched && !busy) take();
  }, [overtaken, untouched, busy, take]);
  const ready = check !== null && (!check.needs_pause || pause);
  return (
    <section
      aria-label="Spec"
      className="grid items-start gap-5 border border-line bg-sheet p-5 lg:grid-cols-2"
    >
      <div className="flex min-w-0 flex-col gap-3">
        <div className="flex flex-wrap items-center justify-between gap-3">
          <h3 className="font-medium">Spec</h3>
          <div role="group" aria-label="Spec format" className="flex text-sm">
            {([false, true] as const).map((form) => (
              <button
                key={String(form)}
                type="button"
                aria-pressed={form === asForm}
                onClick={() => setAsForm(form)}
                className={`border border-ink/60 px-3 py-0.5 ${form === asForm ? "bg-ink text-paper" : ""}`}
              >
                {form ? "Form" : "TOML"}
              </button>
            ))}
          </div>
        </div>
        {asForm && checked.problem && (
          <p role="alert" className="border-l-4 border-red px-3 py-2">
            {checked.problem.message}
          </p>
        )}
        {asForm ? (
          <SpecForm text={text} schema={schema} onChange={setText} />
        ) : (
          <TomlEditor
            key={`${base.from} ${base.text}`}
            text={text}
            problem={checked.problem}
            schema={schema}
            onChange={setText}
          />
        )}
        {beside && (
          <p className="text-sm text-faint">
            Paths begin at <code className="font-mono">{beside}</code> on the service&apos;s
            machine.
          </p>
        )}
      </div>
      <div className="flex min-w-0 flex-col gap-4">
        {overtaken && !untouched && (
          <p
            role="status"
            className="flex flex-wrap items-center gap-3 border-l-4 border-lamp px-3 py-2"
          >
            Somebody else has deployed release {from} meanwhile.
            <button type="button" onClick={take} className="border border-ink px-3 py-0.5 text-sm">
              Take theirs
            </button>
          </p>
        )}
        {check ? (
          <Plan name={name} check={check} />
        ) : (
          <p className="text-sm text-faint">
            {name === ""
              ? "It needs a name. Then this shows what it takes."
              : "When the spec is right, this shows what it takes and what will change."}
          </p>
        )}
        {checked.trouble && <Trouble error={checked.trouble} />}
        {check?.needs_pause && (
          <label className="flex items-center gap-2">
            <input
              type="checkbox"
              name="pause"
              checked={pause}
              onChange={(event) => setPause(event.target.checked)}
            />
            Stop it first; callers are told to come again
          </label>
        )}
        <div className="flex items-center gap-3">
          <button
            type="button"
            disabled={busy || !ready}
            onClick={() => void deploy()}
            className="bg-ink px-5 py-2 font-medium text-paper disabled:opacity-50"
          >
            {busy ? "Starting…" : "Deploy"}
          </button>
          {busy && (
            <span role="status" className="text-sm text-faint">
              {from === undefined
                ? "It answers calls when it is ready."
                : `Release ${from} answers calls meanwhile.`}
            </span>
          )}
        </div>
        {trouble && <Trouble error={trouble} />}
      </div>
    </section>
  );
}
