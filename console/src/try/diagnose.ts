import { distance } from "fastest-levenshtein";
import {
  findNodeAtLocation,
  parseTree,
  printParseErrorCode,
  type Node,
  type ParseError,
} from "jsonc-parser";
import { alternatives, resolved, types, type Schema, type Schemas } from "../editor/schema";

/** Something that is wrong with a text: from which character to which, and the fix in words. */
export interface Diagnosis {
  from: number;
  to: number;
  message: string;
}

const STRICT = { disallowComments: true, allowTrailingComma: false, allowEmptyContent: false };

/** Says what is wrong with a request written as JSON: first whether it is JSON at all, then whether the schema allows it. */
export function diagnose(text: string, schema: Schema, schemas: Schemas): Diagnosis[] {
  const errors: ParseError[] = [];
  const tree = parseTree(text, errors, STRICT);
  const first = errors[0];
  // What comes after the first mistake is mostly its consequence.
  if (first) return [syntax(text, first)];
  if (!tree) return [{ from: 0, to: 0, message: "An object in braces is wanted: {…}" }];
  return check(tree, schema, schemas);
}

/** Finds the place that a service's error speaks of. */
export function diagnosisAt(text: string, field: string | null, message: string): Diagnosis {
  const path = (field ?? "").split(/[.[\]]+/).filter((part) => part !== "");
  const steps = path.map((part) => (/^\d+$/.test(part) ? Number(part) : part));
  const tree = parseTree(text, [], STRICT);
  const node = tree && path.length > 0 ? findNodeAtLocation(tree, steps) : undefined;
  return node
    ? { from: node.offset, to: node.offset + node.length, message }
    : { from: 0, to: Math.min(1, text.length), message };
}

/** Returns the line and the character of a place, both from 1 on. */
export function lineAndCharacter(text: string, offset: number): [number, number] {
  const before = text.slice(0, offset).split("\n");
  return [before.length, before.at(-1)!.length + 1];
}

function syntax(text: string, { error, offset, length }: ParseError): Diagnosis {
  const at = { from: offset, to: Math.min(text.length, offset + Math.max(1, length)) };
  const found = text.slice(at.from, at.to);
  const before = text.slice(0, offset).trimEnd();
  const comma = before.length - 1;
  const name = printParseErrorCode(error);
  const afterComma = before.endsWith(",") && /^[\]}]?$/.test(found.trim());
  if (afterComma && (name === "PropertyNameExpected" || name === "ValueExpected")) {
    const message = "Nothing follows this comma. Remove it.";
    return { from: comma, to: comma + 1, message };
  }
  const unquoted = /^[A-Za-z_]\w*/.exec(text.slice(offset))?.[0];
  if (name === "InvalidSymbol" && unquoted) {
    const quotes = `“${unquoted}” needs double quotes: "${unquoted}".`;
    const words = `${quotes} Only true, false and null have none.`;
    return { from: offset, to: offset + unquoted.length, message: words };
  }
  if (found === "'") return { ...at, message: "Texts stand in double quotes, not in single ones." };
  const messages: Record<string, string> = {
    CommaExpected: "A comma is missing before this.",
    ColonExpected: "A colon is missing between the name and its value.",
    PropertyNameExpected: 'Expected a field name in double quotes, such as "model".',
    ValueExpected:
      "A value is missing here: a text in double quotes, a number, a list or an object.",
    CloseBraceExpected: "The object is not closed: a } is missing.",
    CloseBracketExpected: "The list is not closed: a ] is missing.",
    EndOfFileExpected: "The request ends before this. Remove the rest.",
    InvalidCommentToken: "JSON has no comments. Remove this.",
    UnexpectedEndOfComment: "JSON has no comments. Remove this.",
    UnexpectedEndOfString: 'The string is not closed: a closing " is missing.',
    UnexpectedEndOfNumber: "The number is not complete.",
    InvalidNumberFormat: "Not a JSON number. Write it like 0.7, 12 or -1e3.",
    InvalidEscapeCharacter: 'Unknown escape. Use \\n, \\t, \\" or \\\\.',
    InvalidUnicode: "\\u needs four hexadecimal digits.",
    InvalidCharacter: "Control characters are not allowed in a string. Write \\n or \\t.",
    InvalidSymbol: "Not a value. Write a string in double quotes, a number, true, false or null.",
  };
  return { ...at, message: messages[name] ?? name };
}

const KINDS: Record<string, string> = {
  string: "a text",
  number: "a number",
  integer: "a whole number",
  boolean: "true or false",
  array: "a list",
  object: "an object",
  null: "null",
};

function isOfType(node: Node, type: string): boolean {
  if (type === "integer") return node.type === "number" && Number.isInteger(node.value);
  return node.type === type;
}

function check(node: Node, schema: Schema, schemas: Schemas, name = "this"): Diagnosis[] {
  if (node.type === "null") return [];
  const choices = alternatives(schema, schemas);
  const fitting = choices.filter((one) => {
    const allowed = types(one);
    return allowed.length === 0 || allowed.some((type) => isOfType(node, type));
  });
  const at = { from: node.offset, to: node.offset + node.length };
  if (fitting.length === 0) {
    const kinds = [...new Set(choices.flatMap(types))].filter((type) => type !== "null");
    const wanted = kinds.map((type) => KINDS[type] ?? type).join(" or ");
    return [{ ...at, message: `${name} must be ${wanted}.` }];
  }
  const found = fitting.map((one) => inside(node, one, schemas, name));
  return found.find((problems) => problems.length === 0) ?? found[0]!;
}

function inside(node: Node, schema: Schema, schemas: Schemas, name: string): Diagnosis[] {
  const at = { from: node.offset, to: node.offset + node.length };
  if (schema.enum && !schema.enum.includes(node.value)) {
    const words = schema.enum.map((value) => JSON.stringify(value)).join(", ");
    return [{ ...at, message: `${name} is one of ${words}.` }];
  }
  if (node.type === "array" && schema.items) {
    const items = schema.items;
    return (node.children ?? []).flatMap((child) =>
      check(child, items, schemas, `Each of ${name}`),
    );
  }
  return node.type === "object" ? fields(node, schema, schemas) : [];
}

function fields(node: Node, schema: Schema, schemas: Schemas): Diagnosis[] {
  const known = Object.keys(schema.properties ?? {});
  const problems: Diagnosis[] = [];
  const seen = new Set<string>();
  for (const property of node.children ?? []) {
    const [key, value] = property.children ?? [];
    const name = String(key?.value);
    const own = schema.properties?.[name];
    seen.add(name);
    if (own && value) problems.push(...check(value, own, schemas, `“${name}”`));
    // Unknown fields are ignored by the service, unless they look like a misspelling.
    const closest = nearest(name, known);
    if (
      !own &&
      key &&
      (schema.additionalProperties === false || closest.includes("did you mean"))
    ) {
      const message = `There is no field “${name}”${closest}`;
      problems.push({ from: key.offset, to: key.offset + key.length, message });
    }
  }
  for (const name of schema.required ?? []) {
    if (!seen.has(name)) {
      const message = `“${name}” is missing.`;
      problems.push({ from: node.offset, to: node.offset + 1, message });
    }
  }
  return problems;
}

function nearest(name: string, known: string[]): string {
  const close = known
    .map((one) => ({ one, far: distance(name, one) }))
    .sort((a, b) => a.far - b.far)[0];
  return close && close.far <= Math.max(2, name.length / 3)
    ? `; did you mean “${close.one}”?`
    : ".";
}

/** Returns what may stand at a path of a request. */
export function schemaAt(path: (string | number)[], schema: Schema, schemas: Schemas): Schema[] {
  let here = alternatives(schema, schemas);
  for (const step of path) {
    here = here.flatMap((one) => {
      const next = typeof step === "number" ? one.items : one.properties?.[step];
      return next ? alternatives(next, schemas) : [];
    });
  }
  return here.map((one) => resolved(one, schemas));
}
