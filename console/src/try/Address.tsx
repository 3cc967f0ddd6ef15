import { Copy } from "../frame/Copy";

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
  return (
    <div className="flex flex-wrap items-center gap-2">
      <dt className="text-faint">{name}</dt>
      <dd className="flex items-center gap-2">
        <code className="font-mono break-all">{text}</code>
        <Copy text={text} label={`Copy ${name}`} />
      </dd>
    </div>
  );
}
