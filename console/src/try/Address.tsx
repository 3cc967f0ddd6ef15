import { useState } from "react";

/** What a program needs to call an endpoint: the base address and the name, to be copied. */
export function Address({ model }: { model: string }) {
  return (
    <dl className="flex flex-wrap gap-x-6 gap-y-1 text-sm">
      <Copied name="base address" text={`${window.location.origin}/v1`} />
      <Copied name="model" text={model} />
    </dl>
  );
}

function Copied({ name, text }: { name: string; text: string }) {
  const [copied, setCopied] = useState(false);
  return (
    <div className="flex flex-wrap items-center gap-2">
      <dt className="text-faint">{name}</dt>
      <dd className="flex items-center gap-2">
        <code className="font-mono break-all">{text}</code>
        <button
          type="button"
          aria-label={`Copy ${name}`}
          onClick={() => void navigator.clipboard.writeText(text).then(() => setCopied(true))}
          className="border border-ink px-2 text-xs"
        >
          {copied ? "Copied" : "Copy"}
        </button>
      </dd>
    </div>
  );
}
