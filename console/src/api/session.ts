import { ApiError, send } from "./call";
import { currentKey, keepKey, keepSession, sessionToken } from "./credentials";

const CODE = /^#code=([0-9a-z]+)$/;

/** Begins a session with a code, or with a key of scope `manage`, which is not stored. */
async function begin(code: string | null, key: string): Promise<void> {
  keepSession("");
  const headers: Record<string, string> = key ? { authorization: `Bearer ${key}` } : {};
  const body = JSON.stringify(code === null ? {} : { code });
  const answer = await send("/session", { method: "POST", headers, body });
  keepSession(((await answer.json()) as { token: string }).token);
}

/**
 * Takes a key that a person entered: one of scope `manage` begins a session and is forgotten, one of scope `use` stays in
 * this browser for Try.
 */
export async function enterKey(key: string): Promise<void> {
  try {
    await begin(null, key);
    keepKey("");
  } catch (error) {
    if (!(error instanceof ApiError) || error.code !== "scope_missing") throw error;
    keepKey(key);
  }
}

/** Begins the session whose code is in the page's address, if there is one. Returns why that failed. */
export async function signInFromAddress(): Promise<string | null> {
  const code = CODE.exec(window.location.hash)?.[1];
  if (code) {
    window.history.replaceState(null, "", window.location.pathname);
    return begin(code, "").then(
      () => null,
      (error: Error) => error.message,
    );
  }
  // An earlier version of the console stored keys of scope `manage`, too.
  const key = currentKey();
  if (key && !sessionToken()) await enterKey(key).catch(() => undefined);
  return null;
}

/** Ends the session, at the service and in this tab. */
export async function signOut(): Promise<void> {
  await send("/session", { method: "DELETE" }).catch(() => undefined);
  keepSession("");
}
