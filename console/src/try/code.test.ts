import { expect, test } from "vitest";
import { LANGUAGES, program } from "./code";
import { chatBody, NO_OPTIONS } from "./options";

const BODY = chatBody("pierdesk", "What's new?", {
  ...NO_OPTIONS,
  temperature: "0.5",
  stop: "x",
  seed: "word",
});

test("what is not set or is no number is left out", () => {
  expect(BODY).toEqual({
    model: "pierdesk",
    messages: [{ role: "user", content: "What's new?" }],
    temperature: 0.5,
    stop: ["x"],
  });
});

test("every language names the address, the model and the question, and hides the key", () => {
  for (const language of LANGUAGES) {
    const text = program(language, "http://relay:7411", BODY, true);
    expect(text).toContain("http://relay:7411");
    expect(text).toContain("pierdesk");
    expect(text).toMatch(/What.*s new\?/);
    expect(text).toContain("VASTRELAY_KEY");
    expect(program(language, "http://relay:7411", BODY, false)).not.toContain("VASTRELAY_KEY");
  }
});

test("a sign that ends a shell's word does not end it", () => {
  expect(program("vastrelay", "http://r", BODY, false)).toContain(`'What'\\''s new?'`);
});
