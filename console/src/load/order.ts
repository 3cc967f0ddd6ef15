import type { LoadOrder } from "../api/types";

/** The fields of the form, as they are typed. */
export interface Order {
  model: string;
  name: string;
  kind: string;
  users: string;
  rate: string;
  steps: string;
  seconds: string;
  prompts: string;
  lengths: string;
  shared: string;
  output: string;
  force: string;
  seed: string;
}

export const NO_ORDER: Order = {
  model: "",
  name: "",
  kind: "closed",
  users: "8",
  rate: "10",
  steps: "1, 2, 4, 8, 16",
  seconds: "30",
  prompts: "questions",
  lengths: "128",
  shared: "0",
  output: "",
  force: "",
  seed: "1",
};

/** Returns what the service is asked for; what cannot be is left to the service to say. */
export function orderBody(order: Order): LoadOrder {
  const seconds = Number(order.seconds);
  const users = order.steps
    .split(/[\s,]+/)
    .filter((word) => word !== "")
    .map(Number);
  return {
    model: order.model,
    name: order.name.trim() || null,
    arrival:
      order.kind === "poisson"
        ? { kind: "poisson", rate: Number(order.rate) }
        : order.kind === "steps"
          ? { kind: "steps", users, seconds }
          : { kind: "closed", users: Number(order.users) },
    span: { seconds: order.kind === "steps" ? users.length * seconds : seconds },
    prompts:
      order.prompts === "synthetic"
        ? { kind: "synthetic", lengths: order.lengths, shared_prefix: Number(order.shared) }
        : { kind: "set", name: order.prompts },
    output: order.output.trim() || null,
    force_length: order.force === "yes",
    seed: Number(order.seed),
  };
}
