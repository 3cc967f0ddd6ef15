import { autocompletion, type CompletionContext } from "@codemirror/autocomplete";
import { defaultKeymap, history, historyKeymap, indentWithTab } from "@codemirror/commands";
import { json } from "@codemirror/lang-json";
import { HighlightStyle, bracketMatching, syntaxHighlighting } from "@codemirror/language";
import { forceLinting, linter } from "@codemirror/lint";
import { EditorState } from "@codemirror/state";
import { EditorView, keymap, lineNumbers } from "@codemirror/view";
import { tags } from "@lezer/highlight";
import { useEffect, useRef } from "react";
import { useAnswer } from "../api/useAnswer";
import { complete } from "./complete";
import { diagnose, lineAndCharacter, placed, type Diagnosis } from "./diagnose";
import type { ChatBody } from "./options";
import type { Schema, Schemas } from "./schema";

const LOOK = EditorView.theme({
  "&": { border: "1px solid var(--color-line)", background: "var(--color-paper)" },
  "&.cm-focused": { outline: "2px solid var(--color-ink)" },
  ".cm-scroller": { fontFamily: "var(--font-mono)", fontSize: "13px", lineHeight: "1.5" },
  ".cm-content": { caretColor: "var(--color-ink)", minHeight: "12rem" },
  ".cm-cursor": { borderLeftColor: "var(--color-ink)" },
  ".cm-gutters": {
    background: "var(--color-sheet)",
    color: "var(--color-faint)",
    borderRight: "1px solid var(--color-line)",
  },
  ".cm-lintRange-error": {
    backgroundImage: "none",
    borderBottom: "3px double var(--color-red)",
    background: "color-mix(in srgb, var(--color-red) 18%, transparent)",
  },
  ".cm-tooltip": {
    background: "var(--color-sheet)",
    color: "var(--color-ink)",
    border: "1px solid var(--color-ink)",
  },
  ".cm-tooltip-autocomplete ul li[aria-selected]": {
    background: "var(--color-ink)",
    color: "var(--color-paper)",
  },
  "&.cm-focused .cm-selectionBackground, .cm-selectionBackground": {
    background: "var(--color-shoal) !important",
  },
});

const COLORS = HighlightStyle.define([
  { tag: tags.propertyName, color: "var(--color-ink)", fontWeight: "500" },
  { tag: tags.string, color: "var(--color-green)" },
  { tag: [tags.number, tags.bool, tags.null], color: "var(--color-red)" },
]);

/** The request as JSON, with completion of what the interface knows and each mistake marked where it is. */
export default function JsonEditor({
  text,
  refused,
  onChange,
}: {
  text: string;
  /** What the service did not like of the last request. */
  refused: { field: string | null; message: string } | null;
  /** Hears of each change; the request is `null` while it is not right. */
  onChange: (text: string, body: ChatBody | null) => void;
}) {
  const place = useRef<HTMLDivElement>(null);
  const view = useRef<EditorView>(null);
  const description = useAnswer<{ components: { schemas: Schemas } }>("/openapi.json");
  const schemas = description.value?.components.schemas ?? {};
  const request: Schema = schemas.ChatRequest ?? {};
  const found = diagnose(text, request, schemas);
  const problems: Diagnosis[] =
    found.length === 0 && refused ? [placed(text, refused.field, refused.message)] : found;
  // What the editor's own calls read: the newest of everything.
  const now = useRef({ request, schemas, problems, onChange });
  now.current = { request, schemas, problems, onChange };

  useEffect(() => {
    if (!place.current) return;
    // Inside a shadow root its style sheets need no exception from the content security policy.
    const root = place.current.shadowRoot ?? place.current.attachShadow({ mode: "open" });
    const offer = (context: CompletionContext) => {
      const { state, pos, explicit } = context;
      if (!explicit && !context.matchBefore(/[\w"]+/)) return null;
      const { request, schemas } = now.current;
      const { from, to, choices } = complete(state.doc.toString(), pos, request, schemas);
      const typed = state.sliceDoc(from, pos).replaceAll('"', "").toLowerCase();
      const fitting = choices.filter(({ label }) => label.toLowerCase().includes(typed));
      const options = fitting.map((choice) => ({
        ...choice,
        apply: (view: EditorView) =>
          view.dispatch({
            changes: { from, to, insert: choice.apply },
            selection: { anchor: from + choice.apply.length },
          }),
      }));
      return options.length > 0 ? { from, to, options, filter: false } : null;
    };
    const made = new EditorView({
      root,
      parent: root,
      state: EditorState.create({
        doc: text,
        extensions: [
          lineNumbers(),
          history(),
          bracketMatching(),
          json(),
          syntaxHighlighting(COLORS),
          linter(
            () =>
              now.current.problems.map((problem) => ({ ...problem, severity: "error" as const })),
            { delay: 50, needsRefresh: () => true },
          ),
          autocompletion({ override: [offer] }),
          keymap.of([...defaultKeymap, ...historyKeymap, indentWithTab]),
          EditorView.lineWrapping,
          EditorView.contentAttributes.of({ "aria-label": "Request as JSON" }),
          EditorView.updateListener.of((update) => {
            if (!update.docChanged) return;
            const text = update.state.doc.toString();
            const { request, schemas, onChange } = now.current;
            const right = diagnose(text, request, schemas).length === 0;
            onChange(text, right ? (JSON.parse(text) as ChatBody) : null);
          }),
          LOOK,
        ],
      }),
    });
    view.current = made;
    return () => made.destroy();
    // The text is the editor's own from here on.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, []);

  const shown = JSON.stringify(problems);
  useEffect(() => {
    if (view.current) forceLinting(view.current);
  }, [shown]);

  return (
    <div className="flex flex-col gap-2">
      <div ref={place} data-editor />
      <ul aria-live="polite" className="text-sm">
        {problems.map(({ from, message }) => {
          const [line, character] = lineAndCharacter(text, from);
          return (
            <li
              key={`${from} ${message}`}
              data-problem
              className="border-l-4 border-red px-3 py-0.5"
            >
              <span className="font-mono">
                line {line}, character {character}:
              </span>{" "}
              {message}
            </li>
          );
        })}
      </ul>
      <p className="text-sm text-faint">
        Ctrl-Space completes. Tab indents. Press Escape, then Tab, to leave the editor.
      </p>
    </div>
  );
}
