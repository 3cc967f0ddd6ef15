import type { ReactNode } from "react";
import { ApiError } from "../api/call";

/** What stands where nothing can be shown: why, and what to do. */
export function Empty({ children }: { children: ReactNode }) {
  return (
    <p className="border border-dashed border-line px-4 py-8 text-center text-faint">{children}</p>
  );
}

/** What went wrong, in the service's own words. */
export function Trouble({ error, again }: { error: Error; again?: () => void }) {
  const denied = error instanceof ApiError && error.isDenied;
  return (
    <div
      role="alert"
      className="flex flex-wrap items-center gap-4 border-l-4 border-red bg-sheet px-4 py-3"
    >
      <p>
        {denied ? "Not allowed: " : ""}
        {error.message}
      </p>
      {again && (
        <button type="button" onClick={again} className="border border-ink px-3 py-1">
          Try again
        </button>
      )}
    </div>
  );
}
