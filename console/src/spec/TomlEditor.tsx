import { autocompletion, type CompletionContext } from "@codemirror/autocomplete";
import { StreamLanguage } from "@codemirror/language";
import { toml } from "@codemirror/legacy-modes/mode/toml";
import { forceLinting, linter } from "@codemirror/lint";
import { EditorState } from "@codemirror/state";
import { EditorView } from "@codemirror/view";
import { useEffect, useRef } from "react";
import { basics, rootOf } from "../editor/basics";
import { Problems, type Problem } from "../editor/Problems";
import type { Schema, Schemas } from "../editor/schema";
import { offers } from "./complete";
import { rangeOf } from "./problem";

/** A spec as TOML, with completion of its keys and what the service does not like marked where it is. */
export function TomlEditor({
  text,
  problem,
  schema,
  onChange,
}: {
  text: string;
  problem: Problem | null;
  /** The schema of specs. */
  schema: Schema & { $defs?: Schemas };
  onChange: (text: string) => void;
}) {
  const place = useRef<HTMLDivElement>(null);
  const view = useRef<EditorView>(null);
  // What the editor's own calls read: the newest of everything.
  const now = useRef({ problem, schema, onChange });
  now.current = { problem, schema, onChange };

  useEffect(() => {
    if (!place.current) return;
    const root = rootOf(place.current);
    const offer = (context: CompletionContext) => {
      const word = context.matchBefore(/"?[\w-]*/);
      if (!context.explicit && (!word || word.from === word.to)) return null;
      const { schema } = now.current;
      const before = context.state.sliceDoc(0, context.pos);
      const options = offers(before, schema, schema.$defs ?? {});
      const from = word?.from ?? context.pos;
      return options.length > 0 ? { from, options, filter: false } : null;
    };
    const mark = (view: EditorView) => {
      const { problem } = now.current;
      if (!problem) return [];
      const [from, to] = rangeOf(view.state.doc.toString(), problem);
      return [{ from, to, severity: "error" as const, message: problem.message }];
    };
    const made = new EditorView({
      root,
      parent: root,
      state: EditorState.create({
        doc: text,
        extensions: [
          basics("Spec as TOML"),
          StreamLanguage.define(toml),
          linter(mark, { delay: 50, needsRefresh: () => true }),
          autocompletion({ override: [offer] }),
          EditorView.updateListener.of((update) => {
            if (update.docChanged) now.current.onChange(update.state.doc.toString());
          }),
        ],
      }),
    });
    view.current = made;
    return () => made.destroy();
    // The text is the editor's own from here on.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, []);

  const shown = JSON.stringify(problem);
  useEffect(() => {
    if (view.current) forceLinting(view.current);
  }, [shown]);

  return (
    <div className="flex flex-col gap-2">
      <div ref={place} data-editor />
      <Problems problems={problem ? [problem] : []} />
      <p className="text-sm text-faint">
        Ctrl-Space completes. Tab indents. Press Escape, then Tab, to leave the editor.
      </p>
    </div>
  );
}
