import { expect, test } from "vitest";
import { byAttention } from "./attention";

test("what has failed or refuses comes first, what rests comes last", () => {
  const endpoint = (name: string, state: string, refused = 0) => ({ name, state, refused });
  const all = [
    endpoint("b", "stopped"),
    endpoint("h", "ready"),
    endpoint("c", "parked"),
    endpoint("a", "ready", 2),
    endpoint("d", "failed"),
    endpoint("e", "starting"),
    endpoint("f", "degraded"),
    endpoint("g", "ready"),
  ];
  expect(
    byAttention(all)
      .map(({ name }) => name)
      .join(""),
  ).toBe("dfeaghcb");
});
