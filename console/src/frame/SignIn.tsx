import { useEffect, useState, type FormEvent } from "react";
import { call } from "../api/call";
import { live } from "../api/live";
import { enterKey } from "../api/session";

/** What the page without a session shows first: how to get one. */
export function SignIn({ reason, code }: { reason: string; code: string }) {
  const [key, setKey] = useState("");
  const [trouble, setTrouble] = useState<string | null>(null);
  const [mayTry, setMayTry] = useState(false);
  useEffect(() => {
    const controller = new AbortController();
    call("/v1/models", { signal: controller.signal }).then(
      () => setMayTry(true),
      () => setMayTry(false),
    );
    return () => controller.abort();
  }, []);
  function submit(event: FormEvent) {
    event.preventDefault();
    enterKey(key.trim()).then(
      () => live.restart(),
      (error: Error) => setTrouble(error.message),
    );
  }
  return (
    <main className="mx-auto mt-12 flex w-full max-w-xl flex-col gap-5 border border-line bg-sheet p-6">
      <h2 className="text-lg font-semibold">Sign in to manage this service</h2>
      {code !== "no_key" && (
        <p role="alert" className="border-l-4 border-lamp px-3 text-sm">
          {reason}
        </p>
      )}
      <p>
        On the service&apos;s machine, run this command as the service&apos;s user and open the link
        that it prints:
      </p>
      <pre className="border border-line bg-paper px-3 py-2 font-mono">vastrelay console</pre>
      <form onSubmit={submit} className="flex flex-col gap-3 border-t border-line pt-4">
        <label className="flex flex-col gap-1 text-sm">
          Or enter a key: scope manage opens all pages, scope use opens Try
          <input
            name="key"
            type="password"
            autoComplete="off"
            value={key}
            onChange={(event) => setKey(event.target.value)}
            className="border border-ink/60 bg-paper px-3 py-2 font-mono text-base"
          />
        </label>
        {trouble && (
          <p role="alert" className="border-l-4 border-red px-3 text-sm">
            {trouble}
          </p>
        )}
        <div className="flex flex-wrap items-center gap-4">
          <button
            type="submit"
            disabled={key.trim() === ""}
            className="bg-ink px-5 py-2 font-medium text-paper disabled:opacity-50"
          >
            Enter
          </button>
          {mayTry && (
            <button
              type="button"
              onClick={() => live.limit()}
              className="text-sm underline underline-offset-4"
            >
              Try a model without signing in
            </button>
          )}
        </div>
      </form>
      <p className="text-sm text-faint">
        A session ends when you sign out, or after 12 hours. The browser does not store keys of
        scope manage; it stores a key of scope use until you remove it.
      </p>
    </main>
  );
}
