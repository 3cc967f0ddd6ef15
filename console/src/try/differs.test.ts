import { expect, it } from "vitest";
import { firstDifference } from "./differs";
import type { Token } from "./stream";

function tokens(...texts: string[]): Token[] {
  return texts.map((text) => ({ text, at: 0, logprob: 0, others: [] }));
}

it("finds the first token that differs, and a longer answer only at the end", () => {
  const [a, b] = [tokens("The", " boat", "."), tokens("The", " last", ".")];
  expect(firstDifference(a, b, false)).toBe(1);
  expect(firstDifference(a, a, true)).toBeUndefined();
  expect(firstDifference(a, tokens("The", " boat"), false)).toBeUndefined();
  expect(firstDifference(a, tokens("The", " boat"), true)).toBe(2);
});
