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
  const response = await fetch("/v1/chat/completions", {
    method: "POST",
    headers: { "content-type": "application/json" },
    body: JSON.stringify({
      model,
      messages: [{ role: "user", content: question }],
      stream: true,
      include: ["measured"],
    }),
    signal,
  });
  if (!response.ok || !response.body) {
    const body = (await response.json().catch(() => ({}))) as Piece;
    throw new Error(body.error?.message ?? `the service answered ${response.status}`);
  }
  let measured: Measured | undefined;
  for await (const data of frames(response.body)) {
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

/** The data of each server-sent event. */
async function* frames(body: ReadableStream<Uint8Array>): AsyncGenerator<string> {
  const reader = body.getReader();
  const decoder = new TextDecoder();
  let buffer = "";
  for (;;) {
    const { done, value } = await reader.read();
    if (done) return;
    buffer += decoder.decode(value, { stream: true });
    let end: number;
    while ((end = buffer.indexOf("\n\n")) >= 0) {
      const frame = buffer.slice(0, end);
      buffer = buffer.slice(end + 2);
      if (frame.startsWith("data: ")) yield frame.slice(6);
    }
  }
}
