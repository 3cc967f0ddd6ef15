import { alternatives, resolved, types, type Schema, type Schemas } from "../editor/schema";

/** Something that may be written at a place of a spec. */
export interface Offer {
  label: string;
  info: string;
  apply: string;
}

/** What may be written at the end of a text: keys of its last table, names of tables, or the values of a key. */
export function offers(before: string, schema: Schema, defs: Schemas): Offer[] {
  const lines = before.split("\n");
  const line = lines.at(-1) ?? "";
  const header = lines.findLast((one) => /^\s*\[[\w.]+\]/.test(one));
  const table = /\[([\w.]+)\]/.exec(header ?? "")?.[1] ?? "";
  const properties = schema.properties ?? {};
  if (/^\s*\[\w*$/.test(line)) {
    const tables = Object.entries(properties).filter(([, one]) => resolved(one, defs).properties);
    return tables.map(([name, one]) => ({
      label: name,
      info: one.description ?? "",
      apply: `${name}]`,
    }));
  }
  const own = table === "" ? properties : resolved(properties[table] ?? {}, defs).properties;
  const value = /^\s*(\w+)\s*=\s*"?[\w-]*$/.exec(line)?.[1];
  if (value !== undefined) {
    const field = own?.[value];
    const kinds = field ? [field, ...alternatives(field, defs)] : [];
    const truth = kinds.some((one) => types(one).includes("boolean"));
    const listed = truth ? [true, false] : kinds.flatMap((one) => one.enum ?? []);
    const all = [...new Set(listed)].filter((one) => one !== null);
    return all.map((one) => ({ label: String(one), info: "", apply: JSON.stringify(one) }));
  }
  if (!/^\s*\w*$/.test(line)) return [];
  const keys = Object.entries(own ?? {}).filter(([, one]) => !resolved(one, defs).properties);
  return keys.map(([name, one]) => ({
    label: name,
    info: one.description ?? "",
    apply: `${name} = `,
  }));
}
