import { useState, type ReactNode } from "react";
import { Roots } from "../frame/Roots";
import { Link } from "react-router";
import { call } from "../api/call";
import { change } from "../api/change";
import { useLive } from "../api/useLive";
import { Trouble } from "../frame/State";
import { Answer } from "../try/Answer";
import { useAsk } from "../try/useAsk";

const DEMO = "pierdesk";
const QUESTION = "When is the last boat back on Sunday?";
const LOAD = {
  name: "first load",
  arrival: { kind: "closed", users: 8 },
  span: { seconds: 20 },
  prompts: { kind: "set", name: "questions" },
};

/** What a service without a model shows: the way to the first answer, each step at the press of a button. */
export function FirstSteps({ served, onDone }: { served: string | null; onDone: () => void }) {
  const { load } = useLive();
  const [path, setPath] = useState("");
  const [busy, setBusy] = useState(false);
  const [error, setError] = useState<Error | null>(null);
  const question = useAsk();
  const asked = question.phase === "done";
  const sent = load?.name === LOAD.name;

  async function post(path: string, body: unknown, send: typeof call = call) {
    setBusy(true);
    setError(null);
    await send(path, { method: "POST", body: JSON.stringify(body) }).catch(setError);
    setBusy(false);
  }

  return (
    <section className="mx-auto max-w-3xl border border-line bg-sheet p-6">
      <h2 className="text-lg font-semibold">Three steps to the first answer</h2>
      <p className="mt-1 text-faint">
        The service has no endpoint yet. Serve the demo model, which is included, or a model of your
        own; nothing is downloaded.
      </p>
      {error && (
        <div className="mt-4">
          <Trouble error={error} />
        </div>
      )}
      <ol className="mt-5 flex flex-col gap-5">
        <StepRow
          number={1}
          name="Deploy an endpoint"
          command={
            path
              ? `vastrelay endpoint deploy ${nameOf(path)}=${path}`
              : "vastrelay endpoint deploy --demo"
          }
          done={served !== null}
          button={busy && !served ? "Loading…" : path ? "Deploy" : "Deploy the demo"}
          disabled={busy || served !== null}
          onClick={() =>
            void post(
              "/manage/endpoints",
              path ? { name: nameOf(path), path } : { name: DEMO, demo: true },
              change as typeof call,
            )
          }
        >
          {served === null && (
            <label className="mt-3 flex flex-col text-sm">
              <span>
                A folder or GGUF file of your own on the service&apos;s machine; empty for the demo.{" "}
                <Link className="underline underline-offset-4" to="/console/deploy">
                  More settings
                </Link>
              </span>
              <input
                name="path"
                value={path}
                autoComplete="off"
                placeholder="/models/my-model"
                onChange={(event) => setPath(event.target.value.trim())}
                className="mt-1 mb-1 h-8 border border-ink/60 bg-sheet px-2 font-mono"
              />
              <Roots />
            </label>
          )}
        </StepRow>
        <StepRow
          number={2}
          name="Ask a question"
          command={`vastrelay ask ${served === null || served === DEMO ? "" : `--model ${served} `}"${QUESTION}"`}
          done={asked}
          button="Ask"
          disabled={!served || question.busy}
          onClick={() =>
            void question.send({
              model: served ?? DEMO,
              messages: [{ role: "user", content: QUESTION }],
            })
          }
        >
          {question.phase !== "idle" && (
            <div className="mt-3 flex flex-col gap-2">
              <Answer asked={question} />
            </div>
          )}
        </StepRow>
        <StepRow
          number={3}
          name="Run a load test"
          command="vastrelay load run --users 8 --duration 20s"
          done={sent && load?.state === "ended"}
          button={sent && load?.state !== "ended" ? "Sending…" : "Start load test"}
          disabled={!asked || busy || (sent && load?.state !== "ended")}
          onClick={() => void post("/manage/load", { ...LOAD, model: served })}
        >
          {sent && (
            <p className="mt-2">
              <Link className="underline underline-offset-4" to="/console/load">
                Watch the load test
              </Link>
            </p>
          )}
        </StepRow>
      </ol>
      {served && (
        <button type="button" onClick={onDone} className="mt-6 border border-ink px-4 py-1.5">
          Go to Watch
        </button>
      )}
    </section>
  );
}

/** The name that a model gets unless somebody says otherwise: that of its folder or file. */
function nameOf(path: string): string {
  const last = path.replace(/\/+$/, "").split("/").at(-1) ?? "";
  const name = last.replace(/\.gguf$/i, "").replace(/[^A-Za-z0-9._-]+/g, "-");
  return name || "model";
}

function StepRow({
  number,
  name,
  command,
  done,
  button,
  disabled,
  onClick,
  children,
}: {
  number: number;
  name: string;
  command: string;
  done: boolean;
  button: string;
  disabled: boolean;
  onClick: () => void;
  children?: ReactNode;
}) {
  return (
    <li className="grid grid-cols-[2rem_1fr] gap-x-3">
      <span
        aria-hidden="true"
        className={`grid size-8 place-items-center border border-ink font-mono ${done ? "bg-ink text-paper" : ""}`}
      >
        {done ? "✓" : number}
      </span>
      <div className="min-w-0">
        <div className="flex flex-wrap items-center justify-between gap-2">
          <h3 className="font-medium">
            {name}
            {done && <span className="sr-only">, done</span>}
          </h3>
          <button
            type="button"
            disabled={disabled}
            onClick={onClick}
            className="bg-ink px-4 py-1.5 text-paper disabled:opacity-50"
          >
            {button}
          </button>
        </div>
        <p className="mt-1 text-sm text-faint">
          or in a terminal: <code className="font-mono text-ink">{command}</code>
        </p>
        {children}
      </div>
    </li>
  );
}
