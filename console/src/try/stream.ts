import { send } from "../api/call";
import { frames } from "../api/frames";

/** What the engine measured of one answer; durations in seconds. */
export interface Measured {
  ttft: number;
  itl_mean: number;
  total: number;
  prompt_tokens: number;
  reused_tokens: number;
  output_tokens: number;
  ended: string;
}

interface Piece {
  choices?: { delta: { content?: string }; finish_reason: string | null; measured?: Measured }[];
  error?: { message: string };
}

/** Asks a model and hands over each piece of text as it comes; resolves with what was measured. */
export async function ask(
  model: string,
  question: string,
  onText: (text: string) => void,
  signal: AbortSignal,
): Promise<Measured | undefined> {
  const response = await send("/v1/chat/completions", {
    method: "POST",
    body: JSON.stringify({
      model,
      messages: [{ role: "user", content: question }],
      stream: true,
      include: ["measured"],
    }),
    signal,
  });
  if (!response.body) throw new Error("the answer has no body");
  let measured: Measured | undefined;
  for await (const { data } of frames(response.body)) {
    if (data === "[DONE]") return measured;
    const piece = JSON.parse(data) as Piece;
    if (piece.error) throw new Error(piece.error.message);
    for (const choice of piece.choices ?? []) {
      if (choice.delta.content) onText(choice.delta.content);
      measured = choice.measured ?? measured;
    }
  }
  throw new Error("the connection closed before the answer's end");
}
