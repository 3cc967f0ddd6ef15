import { defaultKeymap, history, historyKeymap, indentWithTab } from "@codemirror/commands";
import { syntaxHighlighting } from "@codemirror/language";
import type { Extension } from "@codemirror/state";
import { EditorView, keymap, lineNumbers } from "@codemirror/view";
import { COLORS, LOOK } from "./look";

/** What every editor has; `label` says what is written in it. */
export function basics(label: string): Extension[] {
  return [
    lineNumbers(),
    history(),
    syntaxHighlighting(COLORS),
    keymap.of([...defaultKeymap, ...historyKeymap, indentWithTab]),
    EditorView.lineWrapping,
    EditorView.contentAttributes.of({ "aria-label": label }),
    LOOK,
  ];
}

/** Where an editor is put: inside a shadow root its style sheets need no exception from the content security policy. */
export function rootOf(place: HTMLElement): ShadowRoot {
  return place.shadowRoot ?? place.attachShadow({ mode: "open" });
}
