import { useEffect, useState } from "react";
import type { ServiceStatus } from "../api/types";

/** Whether the first steps are shown: from the first look at a service without endpoints until somebody is through with them. */
export function useFirstSteps(status: ServiceStatus | null): [boolean, (shown: boolean) => void] {
  const [shown, setShown] = useState(false);
  const none = status?.endpoints.length === 0 && !status.resting?.length;
  useEffect(() => {
    if (none) setShown(true);
  }, [none]);
  return [shown || none, setShown];
}
