import { HighlightStyle } from "@codemirror/language";
import { EditorView } from "@codemirror/view";
import { tags } from "@lezer/highlight";

/** How editors look: as the rest of the chart. */
export const LOOK = EditorView.theme({
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

/** The colours of what is written in them. */
export const COLORS = HighlightStyle.define([
  { tag: tags.propertyName, color: "var(--color-ink)", fontWeight: "500" },
  { tag: tags.comment, color: "var(--color-faint)" },
  { tag: tags.string, color: "var(--color-green)" },
  { tag: [tags.number, tags.bool, tags.null], color: "var(--color-red)" },
]);
