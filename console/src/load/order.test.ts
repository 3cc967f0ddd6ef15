import { expect, it } from "vitest";
import { NO_ORDER, orderBody } from "./order";

it("asks for what the form says", () => {
  const order = { ...NO_ORDER, model: "m" };
  expect(orderBody(order)).toMatchObject({
    name: null,
    arrival: { kind: "closed", users: 8 },
    span: { seconds: 30 },
    prompts: { kind: "set", name: "questions" },
    output: null,
  });
  const steps = orderBody({ ...order, kind: "steps", steps: "1, 2 4", seconds: "5" });
  expect(steps.arrival).toEqual({ kind: "steps", users: [1, 2, 4], seconds: 5 });
  expect(steps.span).toEqual({ seconds: 15 });
  const synthetic = orderBody({ ...order, prompts: "synthetic", lengths: "64..128", shared: "16" });
  expect(synthetic.prompts).toEqual({ kind: "synthetic", lengths: "64..128", shared_prefix: 16 });
});
