import { expect, test } from "vitest";
import type { Schema, Schemas } from "../editor/schema";
import { fieldsOf, shown, valuesOf, withValue } from "./values";

const DEFS: Schemas = {
  Batch: {
    properties: { width: { type: ["integer", "null"], description: "lanes" } },
  },
  Device: {
    properties: {
      profile: { anyOf: [{ anyOf: [{ type: "string" }, { type: "array" }] }, { type: "null" }] },
    },
  },
  Tokens: { properties: { stop: { type: ["array", "null"] } } },
  Records: { properties: { texts: { type: ["boolean", "null"] } } },
};
const SCHEMA: Schema = {
  properties: {
    model: { type: "string" },
    batch: { $ref: "#/$defs/Batch" },
    mode: { type: ["string", "null"], enum: ["chat", "plain"] },
    device: { $ref: "#/$defs/Device" },
    tokens: { $ref: "#/$defs/Tokens" },
    records: { $ref: "#/$defs/Records" },
  },
};
const FIELDS = fieldsOf(SCHEMA, DEFS);
const field = (key: string) => FIELDS.find((one) => one.key === key)!;

test("every key becomes a field of its kind, those of no table first", () => {
  expect(FIELDS.map(({ table, key, kind }) => `${table}.${key} ${kind}`)).toEqual([
    ".model text",
    ".mode text",
    "batch.width number",
    "device.profile list",
    "tokens.stop list",
    "records.texts truth",
  ]);
  expect(field("mode").choices).toEqual(["chat", "plain"]);
  expect(field("width").meaning).toBe("lanes");
});

test("what is written in a field stands in the spec, and nothing where it is emptied", () => {
  let text = 'model = "m"';
  const write = (key: string, written: string) => {
    const read = valuesOf(text);
    if ("why" in read) throw new Error(read.why);
    text = withValue(read.values, field(key), written);
    const after = valuesOf(text);
    return "why" in after ? after.why : shown(after.values, field(key));
  };
  expect(write("width", "32")).toBe("32");
  expect(text).toContain("width = 32");
  expect(write("profile", "sim-48g, cpu")).toBe("sim-48g, cpu");
  expect(write("stop", "<over>, 7")).toBe("<over>, 7");
  expect(text).toContain('stop = [ "<over>", 7 ]');
  expect(write("texts", "false")).toBe("false");
  expect(write("mode", "chat")).toBe("chat");
  for (const key of ["width", "profile", "stop", "texts", "mode"]) expect(write(key, " ")).toBe("");
  expect(text.trim()).toBe('model = "m"');
  expect(valuesOf("model = ")).toHaveProperty("why");
});
