import { describe, expect, it } from "vitest";
import description from "../../openapi.json";
import { complete } from "./complete";
import { diagnose, lineAndCharacter, diagnosisAt } from "./diagnose";
import type { Schema, Schemas } from "../editor/schema";

const schemas = description.components.schemas as unknown as Schemas;
const request = schemas.ChatRequest as Schema;
const GOOD = '{"model": "pierdesk", "messages": [{"role": "user", "content": "Hello"}]}';

/** What is said of a text, with the characters that it points at. */
function said(text: string): [string, string][] {
  return diagnose(text, request, schemas).map(({ from, to, message }) => [
    text.slice(from, to),
    message,
  ]);
}

describe("diagnose", () => {
  it("says nothing of a good request", () => {
    expect(said(GOOD)).toEqual([]);
    const more = '"stop": ["a"], "temperature": 0.5, "seed": null, "include": ["measured"], ';
    expect(said(GOOD.replace("{", `{${more}`))).toEqual([]);
  });

  it.each([
    ['{"model" "x"}', '"x"', "A colon is missing between the name and its value."],
    ['{"seed": 1 "n": 2}', '"n"', "A comma is missing before this."],
    ['{"seed": 1,}', ",", "Nothing follows this comma. Remove it."],
    ['{"stop": ["a", ]}', ",", "Nothing follows this comma. Remove it."],
    [
      '{"model": pierdesk}',
      "pierdesk",
      '“pierdesk” needs double quotes: "pierdesk". Only true, false and null have none.',
    ],
    ['{"seed": 1} {}', "{", "The request ends before this. Remove the rest."],
    ['{"seed": 1 // one\n}', "// one", "JSON has no comments. Remove this."],
  ])("points at the mistake in %s", (text, at, message) => {
    expect(said(text)).toEqual([[at, message]]);
  });

  it("knows the fields and their types", () => {
    const odd = GOOD.replace("{", '{"temprature": 1, "seed": "one", "n": 1.5, ');
    expect(said(odd)).toEqual([
      ['"temprature"', "There is no field “temprature”; did you mean “temperature”?"],
      ['"one"', "“seed” must be a whole number."],
      ["1.5", "“n” must be a whole number."],
    ]);
    expect(said('{"model": "m"}')).toEqual([["{", "“messages” is missing."]]);
    expect(said(GOOD.replace('"role"', '"rôle"'))[0]![0]).toBe('"rôle"');
  });

  it("counts lines and characters from one", () => {
    expect(lineAndCharacter('{\n  "a": x', 9)).toEqual([2, 8]);
  });

  it("finds the field that the service speaks of", () => {
    const { from, to } = diagnosisAt(GOOD, "messages[0].content", "no");
    expect(GOOD.slice(from, to)).toBe('"Hello"');
  });
});

describe("complete", () => {
  const at = (text: string) => {
    const offset = text.indexOf("|");
    return complete(text.replace("|", ""), offset, request, schemas);
  };
  it("offers names with their types and meanings", () => {
    const { choices, from, to } = at('{"te|"');
    const temperature = choices.find(({ label }) => label === "temperature");
    expect(temperature).toEqual({
      label: "temperature",
      detail: "number",
      info: "Divides the logits; 0 is greedy.",
      apply: '"temperature": ',
    });
    expect([from, to]).toEqual([1, 5]);
    expect(at('{"messages": [{|}]}').choices.map(({ label }) => label)).toContain("role");
  });
  it("offers values where they can be listed", () => {
    expect(at('{"stream": |}').choices.map(({ apply }) => apply)).toEqual(["true", "false"]);
    expect(at('{"include": [|]}').choices.map(({ label }) => label)).toContain("measured");
  });
});
