import type { EndpointStatus } from "./types";

/** The names of endpoints to choose from: those that really compute come first. */
export function names(endpoints: EndpointStatus[]): string[] {
  const real = endpoints.filter(({ simulated }) => !simulated);
  const simulated = endpoints.filter(({ simulated }) => simulated);
  return [...real, ...simulated].map(({ name }) => name);
}
