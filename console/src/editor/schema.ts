/** The part of JSON Schema that the description of the interface uses. */
export interface Schema {
  $ref?: string;
  type?: string | string[];
  description?: string;
  enum?: unknown[];
  oneOf?: Schema[];
  anyOf?: Schema[];
  allOf?: Schema[];
  properties?: Record<string, Schema>;
  required?: string[];
  additionalProperties?: boolean | Schema;
  items?: Schema;
}

/** All named schemas of the interface. */
export type Schemas = Record<string, Schema>;

/** Follows a reference to the schema that it names. */
export function resolved(schema: Schema, schemas: Schemas): Schema {
  const name = schema.$ref?.split("/").at(-1);
  const found = name === undefined ? undefined : schemas[name];
  return found ? resolved(found, schemas) : schema;
}

/** The schemas that a value may follow, without the one that only allows `null`. */
export function alternatives(schema: Schema, schemas: Schemas): Schema[] {
  const own = resolved(schema, schemas);
  const several = own.oneOf ?? own.anyOf ?? own.allOf;
  if (!several) return [own];
  return several.flatMap((one) => alternatives(one, schemas)).filter((one) => one.type !== "null");
}

/** The types a value may have by one schema; none when anything goes. */
export function types(schema: Schema): string[] {
  if (schema.type === undefined) return [];
  return Array.isArray(schema.type) ? schema.type : [schema.type];
}
