import { createParser, type EventSourceMessage } from "eventsource-parser";

/** The events of a stream, one after the other, until it ends. */
export async function* frames(
  body: ReadableStream<Uint8Array>,
): AsyncGenerator<EventSourceMessage> {
  const events: EventSourceMessage[] = [];
  const parser = createParser({ onEvent: (event) => events.push(event) });
  const reader = body.getReader();
  const decoder = new TextDecoder();
  try {
    for (;;) {
      const { done, value } = await reader.read();
      if (done) return;
      parser.feed(decoder.decode(value, { stream: true }));
      yield* events.splice(0);
    }
  } finally {
    void reader.cancel();
  }
}
