import type { Problem } from "../editor/Problems";

const PLACE = /^(?:`[^`]*`[^:]*: )?line (\d+), column (\d+): ([\s\S]*)$/;

/** Where in a spec something is wrong, as the service says it; at its beginning where it names no place. */
export function problemOf(message: string): Problem {
  const found = PLACE.exec(message);
  if (!found) return { line: 1, character: 1, message };
  return { line: Number(found[1]), character: Number(found[2]), message: found[3]! };
}

/** The characters that a problem is about: from its place to the end of the word or of the value there. */
export function rangeOf(text: string, { line, character }: Problem): [from: number, to: number] {
  const lines = text.split("\n");
  const before = lines.slice(0, line - 1).reduce((sum, { length }) => sum + length + 1, 0);
  const rest = [...(lines[line - 1] ?? "")];
  const lead = rest.slice(0, character - 1).join("").length;
  const word = /^("[^"]*"|\[[^\]]*\]|[^\s#]+)?/.exec((lines[line - 1] ?? "").slice(lead))![0];
  const from = Math.min(text.length, before + lead);
  return [from, Math.min(text.length, from + Math.max(1, word.length))];
}
