import { useRef, useState } from "react";

/** Copies a text. Browsers allow that over TLS and on loopback only; elsewhere the text is selected for the keyboard. */
export function Copy({ text, label }: { text: string; label: string }) {
  const [said, setSaid] = useState("Copy");
  const shown = useRef<HTMLTextAreaElement>(null);
  const select = () => {
    setSaid("Press Ctrl+C");
    shown.current?.focus();
    shown.current?.select();
  };
  return (
    <>
      <button
        type="button"
        aria-label={label}
        onClick={() => {
          if (!navigator.clipboard) return select();
          void navigator.clipboard.writeText(text).then(() => setSaid("Copied"), select);
        }}
        className="border border-ink px-2 text-xs"
      >
        {said}
      </button>
      {said === "Press Ctrl+C" && (
        <textarea
          ref={(area) => {
            shown.current = area;
            area?.select();
          }}
          readOnly
          aria-label={`${label}: text to copy`}
          value={text}
          rows={2}
          className="w-full border border-line bg-paper p-1 font-mono text-xs"
        />
      )}
    </>
  );
}
