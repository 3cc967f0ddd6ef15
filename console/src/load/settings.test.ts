import { expect, it } from "vitest";
import { NO_SETTINGS, loadBody } from "./settings";

it("asks for what the form says", () => {
  const settings = { ...NO_SETTINGS, model: "m" };
  expect(loadBody(settings)).toMatchObject({
    name: null,
    arrival: { kind: "closed", users: 8 },
    span: { seconds: 30 },
    prompts: { kind: "set", name: "questions" },
    output: null,
  });
  const steps = loadBody({ ...settings, kind: "steps", steps: "1, 2 4", seconds: "5" });
  expect(steps.arrival).toEqual({ kind: "steps", users: [1, 2, 4], seconds: 5 });
  expect(steps.span).toEqual({ seconds: 15 });
  const synthetic = loadBody({
    ...settings,
    prompts: "synthetic",
    lengths: "64..128",
    shared: "16",
  });
  expect(synthetic.prompts).toEqual({ kind: "synthetic", lengths: "64..128", shared_prefix: 16 });
});
