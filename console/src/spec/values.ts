import { parse, stringify, TomlError, type TomlTable, type TomlValue } from "smol-toml";
import { alternatives, resolved, types, type Schema, type Schemas } from "../editor/schema";

/** One key of a spec that a form asks for. */
export interface Field {
  /** The table, empty at the top. */
  table: string;
  key: string;
  meaning: string;
  /** What may be chosen; empty where anything can be written. */
  choices: string[];
  kind: "text" | "number" | "list" | "truth";
}

/** All keys of specs, in the order of the schema: first those of no table. */
export function fieldsOf(schema: Schema, defs: Schemas): Field[] {
  const all: Field[] = [];
  for (const [name, value] of Object.entries(schema.properties ?? {})) {
    const table = resolved(value, defs);
    if (!table.properties) all.push(fieldOf("", name, value, defs));
    else
      for (const [key, one] of Object.entries(table.properties))
        all.push(fieldOf(name, key, one, defs));
  }
  return all.sort((a, b) => Number(a.table !== "") - Number(b.table !== ""));
}

function fieldOf(table: string, key: string, schema: Schema, defs: Schemas): Field {
  const kinds = alternatives(schema, defs);
  const all = kinds.flatMap(types).filter((type) => type !== "null");
  const choices = [schema, ...kinds].flatMap((one) => one.enum ?? []).map(String);
  const kind = all.includes("array")
    ? "list"
    : all.includes("boolean")
      ? "truth"
      : all.includes("integer") || all.includes("number")
        ? "number"
        : "text";
  return { table, key, meaning: schema.description ?? "", choices: [...new Set(choices)], kind };
}

/** A spec as values; why not, where it is no TOML. */
export function valuesOf(text: string): { values: TomlTable } | { why: string } {
  try {
    return { values: parse(text) };
  } catch (error) {
    return { why: error instanceof TomlError ? error.message.split("\n")[0]! : String(error) };
  }
}

/** What a form shows of a key. */
export function shown(values: TomlTable, { table, key }: Field): string {
  const holder = table === "" ? values : values[table];
  const value = isTable(holder) ? holder[key] : undefined;
  if (value === undefined) return "";
  return Array.isArray(value) ? value.map(String).join(", ") : String(value);
}

/** A spec in which a key has another value; none where nothing is written. */
export function withValue(values: TomlTable, field: Field, written: string): string {
  const all = structuredClone(values);
  const { table, key } = field;
  const before = table === "" ? all : all[table];
  const holder: TomlTable = isTable(before) ? before : {};
  if (table !== "") all[table] = holder;
  const value = read(field, written.trim());
  if (value === undefined) delete holder[key];
  else holder[key] = value;
  if (table !== "" && Object.keys(holder).length === 0) delete all[table];
  return stringify(all);
}

function read({ kind, key }: Field, written: string): TomlValue | undefined {
  if (written === "") return undefined;
  if (kind === "truth") return written === "true";
  if (kind === "number") return Number.isNaN(Number(written)) ? written : Number(written);
  if (kind === "text") return written;
  const several = written.split(",").map((one) => one.trim());
  const parts = several.filter((one) => one !== "");
  // Devices are names, tokens may be numbers, too.
  return key === "stop" ? parts.map((one) => (/^\d+$/.test(one) ? Number(one) : one)) : parts;
}

function isTable(value: TomlValue | undefined): value is TomlTable {
  return typeof value === "object" && !Array.isArray(value) && !(value instanceof Date);
}
