import { credentials, keepSession } from "./credentials";

/** An answer that was an error: its status, its name for programs, its words for people. */
export class ApiError extends Error {
  constructor(
    readonly status: number,
    readonly code: string,
    message: string,
    /** The field of the request that is meant. */
    readonly field: string | null = null,
  ) {
    super(message);
  }

  /** Reads the envelope of an answer that is an error. */
  static async of(response: Response): Promise<ApiError> {
    const body = (await response.json().catch(() => null)) as {
      error?: { message: string; code: string | null; param: string | null };
    } | null;
    return new ApiError(
      response.status,
      body?.error?.code ?? "",
      body?.error?.message ?? `the service answered ${response.status}`,
      body?.error?.param ?? null,
    );
  }

  /** Whether another key might help. */
  get isDenied(): boolean {
    return this.status === 401 || this.status === 403;
  }
}

/** The service could not be reached at all: nothing is known of what became of the call. */
export class Unreachable extends Error {
  constructor() {
    super("The service did not answer.");
  }
}

/** Calls the service with the session or the key, and turns an error's envelope into an `ApiError`. */
export async function send(path: string, init: RequestInit = {}): Promise<Response> {
  const headers = new Headers({ ...credentials(), ...(init.headers as Record<string, string>) });
  if (init.body) headers.set("content-type", "application/json");
  const response = await fetch(path, { ...init, headers }).catch((error: Error) => {
    throw init.signal?.aborted ? error : new Unreachable();
  });
  if (response.ok) return response;
  const error = await ApiError.of(response);
  if (error.code === "session_over") keepSession("");
  throw error;
}

/** Calls the service and reads its JSON. */
export async function call<T>(path: string, init?: RequestInit): Promise<T> {
  return (await (await send(path, init)).json()) as T;
}
