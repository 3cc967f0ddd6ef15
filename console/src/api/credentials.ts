const SESSION = "vastrelay-session";
const KEY = "vastrelay-key";

/** The page's half of the session, useless without the cookie; empty without one. It lies in this tab alone. */
export function sessionToken(): string {
  return window.sessionStorage.getItem(SESSION) ?? "";
}

/** Keeps the page's half of a session, or forgets it when it is empty. */
export function keepSession(token: string): void {
  keep(window.sessionStorage, SESSION, token);
}

/** The key of scope `use` that calls are made with; empty without one. */
export function currentKey(): string {
  return window.localStorage.getItem(KEY) ?? "";
}

/** Keeps a key of scope `use` in this browser, or forgets it when it is empty. */
export function keepKey(key: string): void {
  keep(window.localStorage, KEY, key);
}

/** The headers that say who calls. */
export function credentials(): Record<string, string> {
  const [session, key] = [sessionToken(), currentKey()];
  if (session) return { "x-vastrelay-session": session };
  return key ? { authorization: `Bearer ${key}` } : {};
}

function keep(storage: Storage, place: string, value: string): void {
  if (value) storage.setItem(place, value);
  else storage.removeItem(place);
}
