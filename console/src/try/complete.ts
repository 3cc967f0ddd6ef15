import { getLocation } from "jsonc-parser";
import { schemaAt } from "./diagnose";
import { alternatives, types, type Schema, type Schemas } from "../editor/schema";

/** Something that may be written at a place. */
export interface Choice {
  label: string;
  detail: string;
  info: string;
  /** What is put in. */
  apply: string;
}

/** Returns what may be written at a place, and the characters that it would replace. */
export function complete(
  text: string,
  offset: number,
  schema: Schema,
  schemas: Schemas,
): { from: number; to: number; choices: Choice[] } {
  const { path, isAtPropertyKey, previousNode } = getLocation(text, offset);
  const inside =
    previousNode &&
    previousNode.offset <= offset &&
    offset <= previousNode.offset + previousNode.length;
  const word = /[\w"]*$/.exec(text.slice(0, offset))![0];
  const from = inside ? previousNode.offset : offset - word.length;
  const to = inside ? previousNode.offset + previousNode.length : offset;
  const parents = schemaAt(isAtPropertyKey ? path.slice(0, -1) : path, schema, schemas);
  if (!isAtPropertyKey) return { from, to, choices: parents.flatMap(values) };
  const followed = /^\s*:/.test(text.slice(to));
  const choices = parents.flatMap((parent) =>
    Object.entries(parent.properties ?? {}).map(([name, field]) => {
      const kinds = alternatives(field, schemas);
      return {
        label: name,
        detail: [...new Set(kinds.flatMap(types))].filter((type) => type !== "null").join(" | "),
        info: field.description ?? kinds[0]?.description ?? "",
        apply: followed ? JSON.stringify(name) : `${JSON.stringify(name)}: `,
      };
    }),
  );
  return { from, to, choices };
}

/** Values that can be listed: names and the two truth values. */
function values(schema: Schema): Choice[] {
  const listed = schema.enum ?? (types(schema).includes("boolean") ? [true, false] : []);
  return listed.map((value) => ({
    label: String(value),
    detail: "",
    info: schema.description ?? "",
    apply: JSON.stringify(value),
  }));
}
