import { expect, test } from "vitest";
import type { CallDetail, RecordedCall } from "../api/types";
import { timelineParts } from "./parts";
import { csv, jsonLines } from "./save";

const CALL = { queued: 0.2, prefill: 0.3, ttft: 0.5, output_tokens: 5, itl_p50: 0.01, total: 0.84 };

function detail(call: Partial<RecordedCall>, gaps: number[]): CallDetail {
  return {
    call: { ...CALL, ...call } as RecordedCall,
    gaps,
    moves: [],
    parameters: {},
    text: null,
  };
}

test("a life is waiting, prefill, tokens and pauses, one after the other", () => {
  const parts = timelineParts(detail({}, [0.01, 0.01, 0.3, 0.02]));
  expect(parts.map(({ kind }) => kind)).toEqual([
    "waiting",
    "prefill",
    "tokens",
    "pause",
    "tokens",
  ]);
  parts.slice(1).forEach((part, index) => expect(part.from).toBeCloseTo(parts[index]!.to));
  expect(parts.at(-1)!.to).toBeCloseTo(0.84);
});

test("a call without a token only waited", () => {
  const parts = timelineParts(
    detail({ queued: 0.1, prefill: 0, ttft: 0, output_tokens: 0, total: 0.1 }, []),
  );
  expect(parts.map(({ kind }) => kind)).toEqual(["waiting"]);
});

test("what is saved can be read again", () => {
  const calls = [{ id: "a", outcome: 'odd, "quoted"' }] as RecordedCall[];
  expect(csv(calls)).toBe('id,outcome\na,"odd, ""quoted"""\n');
  const formulas = ["=1+1", "+1", "-1", "@x", "\t=1", "\r=1"].map((id) => ({ id, total: -1 }));
  expect(csv(formulas as unknown as RecordedCall[])).toBe(
    `id,total\n"'=1+1",-1\n"'+1",-1\n"'-1",-1\n"'@x",-1\n"'\t=1",-1\n"'\r=1",-1\n`,
  );
  expect(JSON.parse(jsonLines(calls))).toEqual(calls[0]);
});
