import { useState, type FormEvent } from "react";
import { currentKey, keepKey } from "../api/call";
import { live } from "../api/live";

/** What a service that requires a key shows first. */
export function KeyEntry({ reason }: { reason: string }) {
  const [key, setKey] = useState("");
  function submit(event: FormEvent) {
    event.preventDefault();
    keepKey(key.trim());
    live.restart();
  }
  return (
    <form
      onSubmit={submit}
      className="mx-auto mt-12 flex w-full max-w-xl flex-col gap-4 border border-line bg-sheet p-6"
    >
      <h2 className="text-lg font-semibold">
        {currentKey() ? "The key kept here does not open this page" : "This service requires a key"}
      </h2>
      <p role="alert" className="border-l-4 border-lamp px-3 text-sm">
        {reason}
      </p>
      <label className="flex flex-col gap-1 text-sm">
        Key, with scope manage for all pages or with scope use for Try
        <input
          name="key"
          type="password"
          autoComplete="off"
          value={key}
          onChange={(event) => setKey(event.target.value)}
          className="border border-ink/60 bg-paper px-3 py-2 font-mono text-base"
        />
      </label>
      <div className="flex items-center gap-4">
        <button
          type="submit"
          disabled={key.trim() === ""}
          className="bg-ink px-5 py-2 font-medium text-paper disabled:opacity-50"
        >
          Enter
        </button>
      </div>
      <p className="text-sm text-faint">
        Create one on the service's machine with{" "}
        <code className="font-mono">
          vastrelay key create --name console --scope manage --data DIR
        </code>
        . This browser stores the key until you enter another one.
      </p>
    </form>
  );
}
