import { useEffect, useState } from "react";
import { ApiError, call } from "../api/call";
import type { EndpointCheck } from "../api/types";
import type { Problem } from "../editor/Problems";
import { problemOf } from "./problem";

/** Time after the last change before a spec is checked, in milliseconds. */
const PAUSE = 400;

/** What the service says of a spec: how it would be served, or what is wrong with it. */
export interface Checked {
  check: EndpointCheck | null;
  problem: Problem | null;
  trouble: Error | null;
}

const NOTHING: Checked = { check: null, problem: null, trouble: null };

/** Asks the service how a spec would be served, a moment after each change. */
export function useCheck(name: string, spec: string, beside: string): Checked {
  const [checked, setChecked] = useState(NOTHING);
  useEffect(() => {
    if (name === "" || spec.trim() === "") {
      setChecked(NOTHING);
      return;
    }
    const controller = new AbortController();
    const timer = window.setTimeout(() => {
      const body = JSON.stringify({ name, spec, beside });
      const asked = call<EndpointCheck>("/manage/check", {
        method: "POST",
        body,
        signal: controller.signal,
      });
      asked.then(
        (check) => setChecked({ ...NOTHING, check }),
        (error: Error) => {
          if (controller.signal.aborted) return;
          const isOfSpec = error instanceof ApiError && error.status === 400;
          const problem = isOfSpec && error.field !== "name" ? problemOf(error.message) : null;
          setChecked({ ...NOTHING, problem, trouble: problem ? null : error });
        },
      );
    }, PAUSE);
    return () => {
      window.clearTimeout(timer);
      controller.abort();
    };
  }, [name, spec, beside]);
  return checked;
}
