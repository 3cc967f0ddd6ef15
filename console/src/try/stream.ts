import { send } from "../api/call";
import { frames } from "../api/frames";
import { addressOf, type AskBody } from "./options";

/** What the engine measured of one answer; durations in seconds. */
export interface Measured {
  waiting_for_start?: number;
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

/** What an answer, or a piece of one, says of its first completion. */
interface Choice {
  index: number;
  /** In pieces of a conversation's answer. */
  delta?: { content?: string };
  /** In whole ones. */
  message?: { content?: string };
  /** In continued texts. */
  text?: string;
  measured?: Measured;
  logprobs?: ChatLogprobs | PlainLogprobs | null;
}

interface ChatLogprobs {
  content: (TokenLogprob & { top_logprobs: TokenLogprob[] })[];
}

interface PlainLogprobs {
  tokens: string[];
  token_logprobs: (number | null)[];
  top_logprobs?: (Record<string, number> | null)[] | null;
}

interface Piece {
  choices?: Choice[];
  error?: { message: string };
}

/** Sends a request under a name of its own and hands over each piece of text and each token as it comes; resolves with what was measured. */
export async function ask(
  id: string,
  body: AskBody,
  stream: boolean,
  onPiece: (text: string, tokens: Token[]) => void,
  signal: AbortSignal,
): Promise<Measured | undefined> {
  const begun = performance.now();
  const scores = body.messages ? { logprobs: true, top_logprobs: 4 } : { logprobs: 4 };
  const more = { include: ["measured"], ...scores };
  const response = await send(addressOf(body), {
    method: "POST",
    headers: { "x-request-id": id },
    body: JSON.stringify({ ...more, ...body, stream }),
    signal,
  });
  let measured: Measured | undefined;
  const take = (piece: Piece) => {
    if (piece.error) throw new Error(piece.error.message);
    const at = performance.now() - begun;
    // Of several answers the first is shown.
    for (const choice of (piece.choices ?? []).filter(({ index }) => index === 0)) {
      const tokens = tokensOf(choice, at);
      const text = (choice.delta ?? choice.message)?.content ?? choice.text ?? "";
      if (text || tokens.length > 0) onPiece(text, tokens);
      measured = choice.measured ?? measured;
    }
  };
  if (!stream) {
    take((await response.json()) as Piece);
    return measured;
  }
  if (!response.body) throw new Error("the answer has no body");
  for await (const { data } of frames(response.body)) {
    if (data === "[DONE]") return measured;
    take(JSON.parse(data) as Piece);
  }
  throw new Error("the connection closed before the answer's end");
}

function tokensOf({ logprobs }: Choice, at: number): Token[] {
  if (!logprobs) return [];
  if ("content" in logprobs) {
    return logprobs.content.map(({ token, logprob, top_logprobs }) => ({
      text: token,
      at,
      logprob,
      others: top_logprobs,
    }));
  }
  return logprobs.tokens.map((text, place) => ({
    text,
    at,
    logprob: logprobs.token_logprobs[place] ?? 0,
    others: Object.entries(logprobs.top_logprobs?.[place] ?? {}).map(([token, logprob]) => ({
      token,
      logprob,
    })),
  }));
}
