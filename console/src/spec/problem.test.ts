import { expect, test } from "vitest";
import { problemOf, rangeOf } from "./problem";

test("a message with a place is taken apart, one without stands at the beginning", () => {
  expect(problemOf("line 4, column 9: `batch.width`: too wide")).toEqual({
    line: 4,
    character: 9,
    message: "`batch.width`: too wide",
  });
  expect(problemOf("`desk` cannot be served: line 2, column 1: no")).toMatchObject({ line: 2 });
  expect(problemOf("the database is busy")).toEqual({
    line: 1,
    character: 1,
    message: "the database is busy",
  });
});

test("the value at the place is marked, whole", () => {
  const text = 'model = "ä b"\n[batch]\nwidth = 0 # lanes\nnames = ["a", 1]';
  const marked = (line: number, character: number) =>
    text.slice(...rangeOf(text, { line, character, message: "" }));
  expect(marked(1, 9)).toBe('"ä b"');
  expect(marked(3, 9)).toBe("0");
  expect(marked(4, 9)).toBe('["a", 1]');
  expect(marked(2, 1)).toBe("[batch]");
  expect(marked(9, 9)).toBe("");
});
