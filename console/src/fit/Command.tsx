import { Copy } from "../frame/Copy";

/** The command that serves the model so, to copy. */
export function Command({ command }: { command: string }) {
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
      <p className="mt-3">
        <Copy key={command} text={command} label="Copy the command" />
      </p>
    </section>
  );
}
