import { expect, test } from "vitest";
import { contexts, read, write } from "./question";

test("an address carries the whole question", () => {
  const asked = read(new URLSearchParams("model=big&width=32&memory_share=0.85&split=4"), "desk");
  expect(asked).toMatchObject({ model: "big", width: 32, memory_share: 0.85, split: 4 });
  expect(read(write(asked), "desk")).toEqual(asked);
});

test("what is missing or no number is as usual", () => {
  const asked = read(new URLSearchParams("width=wide&context=-3"), "desk");
  expect(asked).toMatchObject({ model: "desk", device: "sim-48g", width: null, context: null });
});

test("contexts go up to the model's own", () => {
  expect(contexts(2048)).toEqual([256, 512, 1024, 2048]);
  expect(contexts(100)).toEqual([100]);
  expect(contexts(5000).at(-1)).toBe(5000);
});
