import { expect, test } from "vitest";
import { offers } from "./complete";

const DEFS = {
  Batch: { properties: { width: { type: "integer" }, context: { type: "integer" } } },
  Records: { properties: { texts: { type: ["boolean", "null"] } } },
};
const SCHEMA = {
  properties: {
    model: { type: "string" },
    mode: { type: ["string", "null"], enum: ["chat", "plain"] },
    batch: { $ref: "#/$defs/Batch", description: "together" },
    records: { $ref: "#/$defs/Records" },
  },
};
const labels = (before: string) => offers(before, SCHEMA, DEFS).map(({ label }) => label);

test("keys of the table, tables and values are offered where they may stand", () => {
  expect(labels("")).toEqual(["model", "mode"]);
  expect(labels('model = "a"\n[batch]\nwi')).toEqual(["width", "context"]);
  expect(labels("[ba")).toEqual(["batch", "records"]);
  expect(labels("mode = ")).toEqual(["chat", "plain"]);
  expect(labels('mode = "c')).toEqual(["chat", "plain"]);
  expect(labels("[records]\ntexts = t")).toEqual(["true", "false"]);
  expect(labels("[batch]\nwidth = 4 # ")).toEqual([]);
  expect(labels("[nothing]\n")).toEqual([]);
});
