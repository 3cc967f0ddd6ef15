import { useState } from "react";

/** The command that serves the model so, to copy. */
export function Command({ command }: { command: string }) {
  const [copied, setCopied] = useState("");
  async function copy() {
    await navigator.clipboard.writeText(command).then(
      () => setCopied("copied"),
      () => setCopied("the browser does not allow it; select the text"),
    );
  }
  return (
    <section aria-label="Command" className="border border-line bg-sheet p-5">
      <h3 className="mb-2 text-sm text-faint">The command that serves it so</h3>
      <pre
        data-command
        tabIndex={0}
        aria-label="The command"
        className="font-mono text-sm wrap-anywhere whitespace-pre-wrap"
      >
        {command}
      </pre>
      <button
        type="button"
        onClick={() => void copy()}
        className="mt-3 border border-ink/60 px-3 py-1 text-sm"
      >
        Copy
      </button>{" "}
      <span role="status" className="text-sm text-faint">
        {copied}
      </span>
    </section>
  );
}
