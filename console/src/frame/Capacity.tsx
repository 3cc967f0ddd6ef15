import type { CapacityStatus } from "../api/types";
import { bytes, counted, grouped } from "../numbers";

/** How many sequences run at once with a KV pool and a batch; and, apart, what the memory limit could hold. */
export function Capacity({ capacity, width }: { capacity: CapacityStatus; width: number }) {
  const { full, typical } = capacity;
  const same = full.tokens === typical.tokens;
  return (
    <div aria-label="Capacity" role="group" className="mt-3 text-sm">
      <p>
        At once:{" "}
        <span className="font-mono">
          {counted(full.at_once, same ? "sequence" : "full sequence")}
        </span>{" "}
        of {grouped(full.tokens)} tokens
        {!same && (
          <>
            {" "}
            or <span className="font-mono">{grouped(typical.at_once)}</span> typical of{" "}
            {grouped(typical.tokens)} tokens
          </>
        )}
        . The KV pool holds {grouped(full.in_pool)}
        {!same && ` full or ${grouped(typical.in_pool)} typical`}, the batch has{" "}
        {counted(width, "lane")}.
      </p>
      {full.in_pool < width && (
        <p className="text-faint">
          A full batch of full sequences would need a KV pool of {bytes(capacity.full_batch_bytes)}:{" "}
          {full.in_pool + full.in_rest < width ? (
            "more than the memory limit leaves."
          ) : (
            <code>memory.pages = {capacity.full_batch_pages}</code>
          )}
        </p>
      )}
      {full.in_rest > 0 && (
        <p className="text-faint">
          The rest of the memory limit could hold {grouped(full.in_rest)} more of{" "}
          {grouped(full.tokens)} tokens.
        </p>
      )}
    </div>
  );
}
