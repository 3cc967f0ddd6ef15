import * as Tooltip from "@radix-ui/react-tooltip";

/** A number with its name; the definition shows on hover and focus. */
export function Metric({
  name,
  value,
  meaning,
  wide = false,
}: {
  name: string;
  value: string;
  meaning: string;
  wide?: boolean;
}) {
  return (
    <div className={wide ? "col-span-2" : ""}>
      <dt className="text-sm text-faint">
        <Tooltip.Root>
          <Tooltip.Trigger className="cursor-help text-left underline decoration-dotted underline-offset-4">
            {name}
          </Tooltip.Trigger>
          <Tooltip.Portal>
            <Tooltip.Content
              sideOffset={6}
              className="z-10 max-w-64 border border-ink bg-sheet px-3 py-2 text-sm text-ink"
            >
              {meaning}
            </Tooltip.Content>
          </Tooltip.Portal>
        </Tooltip.Root>
      </dt>
      <dd className="font-mono text-base whitespace-nowrap tabular-nums">{value}</dd>
    </div>
  );
}
