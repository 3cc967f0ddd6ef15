import { bytes } from "../numbers";

/** Parts of a memory by what they are for: a bar that adds up, and its legend. */
export function MemoryBar({
  parts,
  total,
  label,
}: {
  /** Name, bytes and colour of each; the background class. */
  parts: readonly (readonly [name: string, size: number, color: string])[];
  total: number;
  label: string;
}) {
  return (
    <>
      <div className="flex h-4 border border-ink/60" role="img" aria-label={label}>
        {parts.map(([name, size, color]) => (
          <span key={name} className={color} style={{ width: `${(100 * size) / total}%` }} />
        ))}
      </div>
      <ul className="mt-1 flex flex-wrap gap-x-3 gap-y-1 text-sm">
        {parts.map(([name, size, color]) => (
          <li key={name} className="flex items-center gap-2">
            <span
              className={`inline-block size-3 border border-ink/60 ${color}`}
              aria-hidden="true"
            />
            {name} <span className="font-mono tabular-nums">{bytes(size)}</span>
          </li>
        ))}
      </ul>
    </>
  );
}
