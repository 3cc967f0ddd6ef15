import { send } from "../api/call";
import { frames } from "../api/frames";
import type { ChatBody } from "./options";

/** What the engine measured of one answer; durations in seconds. */
export interface Measured {
  queued: number;
  prefill: number;
  ttft: number;
  itl_mean: number;
  itl_max: number;
  total: number;
  prompt_tokens: number;
  reused_tokens: number;
  output_tokens: number;
  ended: string;
}

/** A token as it came: its text, when, and how probable it was. */
export interface Token {
  text: string;
  /** Milliseconds since the request was sent. */
  at: number;
  logprob: number;
  others: { token: string; logprob: number }[];
}

interface TokenLogprob {
  token: string;
  logprob: number;
}

interface Piece {
  choices?: {
    index: number;
    delta: { content?: string };
    finish_reason: string | null;
    measured?: Measured;
    logprobs: { content: (TokenLogprob & { top_logprobs: TokenLogprob[] })[] } | null;
  }[];
  error?: { message: string };
}

/** Sends a request under a name of its own and hands over each piece of text and each token as it comes; resolves with what was measured. */
export async function ask(
  id: string,
  body: ChatBody,
  onPiece: (text: string, tokens: Token[]) => void,
  signal: AbortSignal,
): Promise<Measured | undefined> {
  const begun = performance.now();
  const more = { include: ["measured"], logprobs: true, top_logprobs: 4 };
  const response = await send("/v1/chat/completions", {
    method: "POST",
    headers: { "x-request-id": id },
    body: JSON.stringify({ ...more, ...body, stream: true }),
    signal,
  });
  if (!response.body) throw new Error("the answer has no body");
  let measured: Measured | undefined;
  for await (const { data } of frames(response.body)) {
    if (data === "[DONE]") return measured;
    const piece = JSON.parse(data) as Piece;
    if (piece.error) throw new Error(piece.error.message);
    const at = performance.now() - begun;
    // Of several answers the first is shown.
    for (const choice of (piece.choices ?? []).filter(({ index }) => index === 0)) {
      const tokens = (choice.logprobs?.content ?? []).map(({ token, logprob, top_logprobs }) => ({
        text: token,
        at,
        logprob,
        others: top_logprobs,
      }));
      if (choice.delta.content || tokens.length > 0) onPiece(choice.delta.content ?? "", tokens);
      measured = choice.measured ?? measured;
    }
  }
  throw new Error("the connection closed before the answer's end");
}
