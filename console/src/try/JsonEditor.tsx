import { autocompletion, type CompletionContext } from "@codemirror/autocomplete";
import { json } from "@codemirror/lang-json";
import { bracketMatching } from "@codemirror/language";
import { forceLinting, linter } from "@codemirror/lint";
import { EditorState } from "@codemirror/state";
import { EditorView } from "@codemirror/view";
import { useEffect, useRef } from "react";
import { useAnswer } from "../api/useAnswer";
import { basics, rootOf } from "../editor/basics";
import { Problems } from "../editor/Problems";
import { complete } from "./complete";
import { diagnose, lineAndCharacter, diagnosisAt, type Diagnosis } from "./diagnose";
import type { AskBody } from "./options";
import type { Schema, Schemas } from "../editor/schema";

/** The request as JSON, with completion of what the interface knows and each mistake marked where it is. */
export default function JsonEditor({
  text,
  kind,
  refused,
  onChange,
}: {
  text: string;
  /** Which of the interface's requests it is. */
  kind: "ChatRequest" | "CompletionRequest";
  /** What the service did not like of the last request. */
  refused: { field: string | null; message: string } | null;
  /** Hears of each change; the request is `null` while it is not right. */
  onChange: (text: string, body: AskBody | null) => void;
}) {
  const place = useRef<HTMLDivElement>(null);
  const view = useRef<EditorView>(null);
  const description = useAnswer<{ components: { schemas: Schemas } }>("/openapi.json");
  const schemas = description.value?.components.schemas ?? {};
  const request: Schema = schemas[kind] ?? {};
  const found = diagnose(text, request, schemas);
  const problems: Diagnosis[] =
    found.length === 0 && refused ? [diagnosisAt(text, refused.field, refused.message)] : found;
  // The editor's own calls read the newest values from here.
  const now = useRef({ request, schemas, problems, onChange });
  now.current = { request, schemas, problems, onChange };

  useEffect(() => {
    if (!place.current) return;
    const root = rootOf(place.current);
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
          basics("Request as JSON"),
          bracketMatching(),
          json(),
          linter(
            () =>
              now.current.problems.map((problem) => ({ ...problem, severity: "error" as const })),
            { delay: 50, needsRefresh: () => true },
          ),
          autocompletion({ override: [offer] }),
          EditorView.updateListener.of((update) => {
            if (!update.docChanged) return;
            const text = update.state.doc.toString();
            const { request, schemas, onChange } = now.current;
            const right = diagnose(text, request, schemas).length === 0;
            onChange(text, right ? (JSON.parse(text) as AskBody) : null);
          }),
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
      <Problems
        problems={problems.map(({ from, message }) => {
          const [line, character] = lineAndCharacter(text, from);
          return { line, character, message };
        })}
      />
      <p className="text-sm text-faint">
        Ctrl-Space completes. Tab indents. Press Escape, then Tab, to leave the editor.
      </p>
    </div>
  );
}
