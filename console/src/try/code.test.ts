import { expect, test } from "vitest";
import { LANGUAGES, program } from "./code";
import { chatBody, NO_OPTIONS, plainBody } from "./options";

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

test("what only JSON can say is said in Python's words, and what a command cannot say is told", () => {
  const body = {
    model: "pierdesk",
    messages: [{ role: "user", content: "Hello" }],
    store: false,
    seed: null,
    top_k: 4,
    n: 2,
    stop: "x",
  };
  const python = program("Python", "http://h", body, false);
  expect(python).toContain("    store=False,\n    seed=None,\n    n=2,\n");
  expect(python).toContain('    extra_body={"top_k": 4},');
  const own = program("vastrelay", "http://h", body, false);
  expect(own).toContain("--top-k 4 --stop 'x' 'Hello'\n# It has no words for store, n;");
  const streamed = { ...body, stream: true };
  expect(program("Python", "http://h", streamed, false)).toContain("for piece in answer:");
  expect(program("JavaScript", "http://h", streamed, false)).toContain("for await");
});

test("a text to be continued goes to the address for that", () => {
  const body = plainBody("pierdesk", "The last boat", NO_OPTIONS);
  expect(program("curl", "http://h", body, false)).toContain("http://h/v1/completions ");
  expect(program("Python", "http://h", body, false)).toContain("client.completions.create(");
  expect(program("Python", "http://h", body, false)).toContain("choices[0].text");
  expect(program("JavaScript", "http://h", body, false)).toContain("client.completions.create(");
  expect(program("vastrelay", "http://h", body, false)).toContain("conversations only");
});
