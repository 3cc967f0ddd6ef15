import * as Slider from "@radix-ui/react-slider";
import { useEffect, useId, useState, type ReactNode } from "react";

/** A setting with its name above it. */
function Named({ name, id, children }: { name: ReactNode; id: string; children: ReactNode }) {
  return (
    <div className="flex flex-col gap-1 text-sm">
      <label htmlFor={id}>{name}</label>
      {children}
    </div>
  );
}

/** One of several words. */
export function Choice({
  name,
  field,
  value,
  values,
  onChange,
}: {
  name: string;
  field: string;
  value: string;
  values: readonly (readonly [value: string, words: string])[];
  onChange: (value: string) => void;
}) {
  const id = useId();
  return (
    <Named name={name} id={id}>
      <select
        id={id}
        name={field}
        value={value}
        onChange={(event) => onChange(event.target.value)}
        className="border border-ink/60 bg-paper px-2 py-1 font-mono"
      >
        {values.map(([value, words]) => (
          <option key={value} value={value}>
            {words}
          </option>
        ))}
      </select>
    </Named>
  );
}

/** One of several numbers, on a slider. */
export function Slide({
  name,
  field,
  value,
  values,
  words,
  onChange,
}: {
  name: string;
  field: string;
  value: number;
  values: number[];
  words: (value: number) => string;
  onChange: (value: number) => void;
}) {
  const id = useId();
  const nearest = values.reduce(
    (best, one, at) => (Math.abs(one - value) < Math.abs(values[best]! - value) ? at : best),
    0,
  );
  // The handle follows the hand at once; the address, and with it the value, a moment later.
  const [at, setAt] = useState(nearest);
  useEffect(() => setAt(nearest), [nearest]);
  const shown = at === nearest ? value : values[at]!;
  return (
    <div className="flex flex-col gap-1 text-sm">
      <p id={id} className="flex justify-between gap-2">
        {name} <span className="font-mono tabular-nums">{words(shown)}</span>
      </p>
      <Slider.Root
        min={0}
        max={values.length - 1}
        value={[at]}
        onValueChange={([moved]) => {
          setAt(moved!);
          onChange(values[moved!]!);
        }}
        className="relative flex h-5 touch-none items-center select-none"
        data-field={field}
      >
        <Slider.Track className="relative h-1 grow bg-line">
          <Slider.Range className="absolute h-full bg-ink" />
        </Slider.Track>
        <Slider.Thumb
          aria-labelledby={id}
          aria-valuetext={words(shown)}
          className="block size-4 border-2 border-ink bg-paper"
        />
      </Slider.Root>
    </div>
  );
}
