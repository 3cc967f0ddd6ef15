import type { Token } from "./stream";

/** Returns the index of the first token in which two answers differ; of an answer that is still coming, nothing is said beyond its end. */
export function firstDifference(a: Token[], b: Token[], ended: boolean): number | undefined {
  const shared = Math.min(a.length, b.length);
  for (let index = 0; index < shared; index += 1) {
    if (a[index]!.text !== b[index]!.text) return index;
  }
  return ended && a.length !== b.length ? shared : undefined;
}
