import type { LoadOrder } from "../api/types";

/** The fields of the form, as they are typed. */
export interface LoadSettings {
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

export const NO_SETTINGS: LoadSettings = {
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
export function loadBody(settings: LoadSettings): LoadOrder {
  const seconds = Number(settings.seconds);
  const users = settings.steps
    .split(/[\s,]+/)
    .filter((word) => word !== "")
    .map(Number);
  return {
    model: settings.model,
    name: settings.name.trim() || null,
    arrival:
      settings.kind === "poisson"
        ? { kind: "poisson", rate: Number(settings.rate) }
        : settings.kind === "steps"
          ? { kind: "steps", users, seconds }
          : { kind: "closed", users: Number(settings.users) },
    span: { seconds: settings.kind === "steps" ? users.length * seconds : seconds },
    prompts:
      settings.prompts === "synthetic"
        ? { kind: "synthetic", lengths: settings.lengths, shared_prefix: Number(settings.shared) }
        : { kind: "set", name: settings.prompts },
    output: settings.output.trim() || null,
    force_length: settings.force === "yes",
    seed: Number(settings.seed),
  };
}
