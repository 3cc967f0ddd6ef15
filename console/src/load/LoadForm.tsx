import { useState, type FormEvent } from "react";
import { call } from "../api/call";
import { live } from "../api/live";
import type { LoadStatus } from "../api/types";
import { Trouble } from "../frame/State";
import { NO_SETTINGS, loadBody, type LoadSettings } from "./settings";

const FIELD = "border border-ink/60 bg-paper px-2 py-1 font-mono";

/** What load to send. */
export function LoadForm({ models, busy }: { models: string[]; busy: boolean }) {
  const [settings, setSettings] = useState<LoadSettings>({
    ...NO_SETTINGS,
    model: models[0] ?? "",
  });
  const [error, setError] = useState<Error | null>(null);

  async function send(event: FormEvent) {
    event.preventDefault();
    setError(null);
    const body = JSON.stringify(loadBody(settings));
    await call<LoadStatus>("/manage/load", { method: "POST", body }).then(
      (load) => live.heardOfLoad(load),
      setError,
    );
  }

  const set = (name: keyof LoadSettings) => (event: { target: { value: string } }) =>
    setSettings({ ...settings, [name]: event.target.value });
  const text = (name: keyof LoadSettings, label: string, hint = "", width = "w-28") => (
    <label key={name} className="flex flex-col text-sm">
      {label}
      <input
        name={name}
        value={settings[name]}
        placeholder={hint}
        onChange={set(name)}
        className={`${FIELD} ${width}`}
      />
    </label>
  );
  const choice = (
    name: keyof LoadSettings,
    label: string,
    values: readonly (readonly [string, string])[],
  ) => (
    <label className="flex flex-col text-sm">
      {label}
      <select name={name} value={settings[name]} onChange={set(name)} className={FIELD}>
        {values.map(([value, words]) => (
          <option key={value} value={value}>
            {words}
          </option>
        ))}
      </select>
    </label>
  );
  return (
    <form
      onSubmit={send}
      aria-label="New load test"
      className="flex flex-col gap-3 border border-line bg-sheet p-5"
    >
      <div className="flex flex-wrap gap-x-4 gap-y-3">
        {models.length > 1 &&
          choice(
            "model",
            "Model",
            models.map((name) => [name, name] as const),
          )}
        {choice("kind", "Arrivals", [
          ["closed", "closed: fixed number of users"],
          ["poisson", "Poisson: at a mean rate"],
          ["steps", "steps: increasing users"],
        ])}
        {settings.kind === "closed" && text("users", "Concurrent users")}
        {settings.kind === "poisson" && text("rate", "Requests per second")}
        {settings.kind === "steps" && text("steps", "Users per step", "1, 2, 4, 8", "w-40")}
        {text("seconds", settings.kind === "steps" ? "Seconds per step" : "Seconds")}
        {choice("prompts", "Prompts", [
          ["questions", "the demo's questions"],
          ["follow-ups", "the demo's follow-ups"],
          ["synthetic", "synthetic tokens"],
        ])}
        {settings.prompts === "synthetic" && text("lengths", "Prompt tokens", "128, 64..256")}
        {settings.prompts === "synthetic" && text("shared", "Shared prefix tokens")}
        {text("output", "Answer tokens", "until the model ends", "w-48")}
        {text("seed", "Seed")}
        {text("name", "Name", "optional", "w-56")}
      </div>
      <label className="flex items-center gap-2 text-sm">
        <input
          name="force"
          type="checkbox"
          checked={settings.force === "yes"}
          onChange={(event) =>
            setSettings({ ...settings, force: event.target.checked ? "yes" : "" })
          }
        />
        always generate the full length
      </label>
      <div className="flex flex-wrap items-center gap-4">
        <button
          type="submit"
          disabled={busy}
          className="bg-ink px-5 py-2 font-medium text-paper disabled:opacity-50"
        >
          Start load test
        </button>
        <p className="text-sm text-faint">
          The service sends the requests to itself over HTTP, so the load test uses some of its CPU
          time.
        </p>
      </div>
      {error && <Trouble error={error} />}
    </form>
  );
}
