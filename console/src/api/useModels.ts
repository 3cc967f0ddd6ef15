import { useRef } from "react";
import type { ModelEntry } from "./types";
import { useAnswer, type Answer } from "./useAnswer";

/** Endpoints are asked for again so often, in milliseconds. */
const AGAIN = 2000;

/** The endpoints that the key may call, with their states. */
export function useModels(): Answer<{ data: ModelEntry[] }> {
  const answer = useAnswer<{ data: ModelEntry[] }>("/v1/models", AGAIN);
  const { value } = answer;
  // A service that is away for a moment takes nothing off the page.
  const last = useRef(value);
  if (value) last.current = value;
  return { ...answer, value: last.current };
}
