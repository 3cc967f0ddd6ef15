import { useState } from "react";
import { Copy } from "../frame/Copy";
import { currentKey } from "../api/credentials";
import { LANGUAGES, program, type Language } from "./code";
import type { AskBody } from "./options";

/** The request on the page as a program to be copied. */
export function Code({ body }: { body: AskBody }) {
  const [language, setLanguage] = useState<Language>("curl");
  const text = program(language, window.location.origin, body, currentKey() !== "");
  return (
    <section className="border border-line bg-sheet p-4">
      <div className="flex flex-wrap items-center gap-1">
        <h3 className="mr-3 text-sm text-faint">This request as code</h3>
        {LANGUAGES.map((name) => (
          <button
            key={name}
            type="button"
            aria-pressed={name === language}
            onClick={() => setLanguage(name)}
            className={`px-2 py-0.5 text-sm ${name === language ? "bg-ink text-paper" : "border border-line"}`}
          >
            {name}
          </button>
        ))}
        <span className="ml-auto">
          <Copy key={text} text={text} label="Copy this request" />
        </span>
      </div>
      <pre
        data-code
        tabIndex={0}
        aria-label={`The request in ${language}`}
        className="mt-2 overflow-x-auto bg-shoal px-3 py-2 font-mono text-xs"
      >
        {text}
      </pre>
    </section>
  );
}
