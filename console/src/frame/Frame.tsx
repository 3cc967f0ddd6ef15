import { useEffect } from "react";
import { Outlet, useLocation } from "react-router";
import { currentKey, keepKey, sessionToken } from "../api/credentials";
import { live } from "../api/live";
import { signOut } from "../api/session";
import { useLive } from "../api/useLive";
import { duration, grouped } from "../numbers";
import { Condition } from "./Condition";
import { GoTo } from "./GoTo";
import { Navigation } from "./Navigation";
import { PAGES } from "./pages";
import { Try } from "../try/Try";
import { SignIn } from "./SignIn";

/** The title of the page at an address: its name, and what it is about. */
function titleOf(pathname: string): string {
  const [page = "", about] = pathname.replace(/^\/console\//, "").split("/");
  const name = PAGES.find(([path]) => path === page)?.[1] ?? { endpoints: "Endpoint" }[page];
  return [about && decodeURIComponent(about), name ?? "Console"].filter(Boolean).join(" · ");
}

/** The way from Try to the other pages. */
function ManageInstead() {
  const [says, does] = currentKey()
    ? ["The key stored in this browser may call models and nothing else.", "Remove it and sign in"]
    : ["This page calls models and nothing else.", "Sign in"];
  return (
    <p className="mt-5 text-sm text-faint">
      {says}{" "}
      <button
        type="button"
        onClick={() => {
          keepKey("");
          live.restart();
        }}
        className="underline underline-offset-4"
      >
        {does}
      </button>
    </p>
  );
}

/** Ends the session. */
function SignOut() {
  return (
    <button
      type="button"
      onClick={() => void signOut().then(() => live.restart())}
      className="text-sm underline underline-offset-4"
    >
      Sign out
    </button>
  );
}

/** What every page stands in: the name, the way to the other pages, and whether the service is heard. */
export function Frame() {
  const { status, connection, upgraded } = useLive();
  const { pathname } = useLocation();
  useEffect(() => {
    document.title = `${titleOf(pathname)} · Vast Relay`;
  }, [pathname]);
  const limited = connection.kind === "limited";
  return (
    <div className="mx-auto flex min-h-screen max-w-[92rem] flex-col px-4 pb-10 sm:px-8">
      <header className="flex flex-wrap items-center gap-x-6 gap-y-2 border-b-2 border-ink pt-4 pb-2">
        <h1 className="text-xl font-semibold tracking-tight">Vast Relay</h1>
        {connection.kind !== "denied" && !limited && <GoTo />}
        <div className="ml-auto flex flex-wrap items-center gap-x-4">
          <Condition connection={connection} state={status?.state} />
          <p className="hidden font-mono text-sm text-faint lg:block">
            {status
              ? `up ${duration(status.uptime)} · ${grouped(status.calls_recorded)} ${status.calls_recorded === 1 ? "call" : "calls"}`
              : ""}
          </p>
          {sessionToken() && <SignOut />}
        </div>
      </header>
      <div className="flex flex-1 flex-col lg:flex-row lg:gap-8">
        <Navigation limited={limited} />
        <div className="min-w-0 flex-1">
          {upgraded && (
            <p role="alert" className="mt-4 border-l-4 border-lamp bg-sheet px-4 py-3">
              The service was upgraded, and this page is from before.{" "}
              <button
                type="button"
                onClick={() => window.location.reload()}
                className="underline underline-offset-4"
              >
                Reload
              </button>
            </p>
          )}
          {connection.kind === "lost" && (
            <p role="alert" className="mt-4 border-l-4 border-red bg-sheet px-4 py-3">
              The service is not responding. This page retries every second. If the service was
              stopped, <code className="font-mono">vastrelay start --demo</code> starts it.
            </p>
          )}
          {connection.kind === "denied" ? (
            <SignIn reason={connection.reason} code={connection.code} />
          ) : (
            <main className="pt-5">
              {limited ? (
                <>
                  <Try />
                  <ManageInstead />
                </>
              ) : (
                <Outlet />
              )}
            </main>
          )}
        </div>
      </div>
    </div>
  );
}
