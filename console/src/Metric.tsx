import * as Tooltip from "@radix-ui/react-tooltip";

/** A number with its name; the definition shows on hover and focus. */
export function Metric({
  name,
  value,
  meaning,
  wide = false,
  large = false,
}: {
  name: string;
  value: string;
  meaning: string;
  wide?: boolean;
  /** One of the figures that matter most. */
  large?: boolean;
}) {
  return (
    <div className={wide || large ? "col-span-2" : ""}>
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
      <dd
        className={`font-mono whitespace-nowrap tabular-nums ${large ? "text-3xl font-semibold" : "text-base"}`}
      >
        {value}
      </dd>
    </div>
  );
}
