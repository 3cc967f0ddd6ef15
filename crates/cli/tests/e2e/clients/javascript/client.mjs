// Uses a service through the official client, as an application would.
import OpenAI from "openai";
import assert from "node:assert/strict";

const [, , url, key] = process.argv;
const make = (apiKey) => new OpenAI({ baseURL: `${url}/v1`, apiKey, maxRetries: 0 });
const client = make(key);
const messages = [{ role: "user", content: "When is the last boat back from Tolsay on Sunday?" }];
const ask = (more = {}) => client.chat.completions.create({ model: "pierdesk", messages, ...more });

const answer = await ask({ temperature: 0 });
const text = answer.choices[0].message.content;
assert.match(text, /18:00/);

let streamed = "";
let usage;
for await (const piece of await ask({ temperature: 0, stream: true, stream_options: { include_usage: true } })) {
  streamed += piece.choices.map((choice) => choice.delta.content ?? "").join("");
  usage = piece.usage ?? usage;
}
assert.equal(streamed, text);
assert.equal(usage.completion_tokens, answer.usage.completion_tokens);

const stopped = await ask({ temperature: 0, stop: ["18:00"] });
assert.ok(!stopped.choices[0].message.content.includes("18:00"));
assert.equal(stopped.choices[0].finish_reason, "stop");

const drawn = { n: 2, seed: 4, temperature: 1.5, max_tokens: 12, logprobs: true, top_logprobs: 2 };
const several = await ask(drawn);
assert.equal(several.choices.length, 2);
assert.equal(several.choices[0].logprobs.content[0].top_logprobs.length, 2);
const words = (answer) => answer.choices.map((choice) => choice.message.content);
assert.deepEqual(words(await ask(drawn)), words(several));

const plain = await client.completions.create({ model: "pierdesk", prompt: "The last boat", max_tokens: 8, echo: true });
assert.ok(plain.choices[0].text.startsWith("The last boat"));

await assert.rejects(ask({ model: "nope" }), OpenAI.NotFoundError);
await assert.rejects(ask({ temperature: 9 }), OpenAI.BadRequestError);
await assert.rejects(make("vr-wrong").models.list(), OpenAI.AuthenticationError);

// One in the batch, two waiting: the next is told to come back.
const long = { stream: true, max_tokens: 1900, min_tokens: 1900 };
const running = await ask(long);
await running[Symbol.asyncIterator]().next();
// Who waits has no answer before it is its turn.
const waiting = [ask(long), ask(long)];
const depth = async () => {
  const metrics = await fetch(`${url}/metrics`, { headers: { authorization: `Bearer ${key}` } });
  const lines = (await metrics.text()).split("\n");
  return Number(lines.find((line) => line.startsWith("vastrelay_queue_depth{")).split(" ").at(-1));
};
while ((await depth()) < 2);
await assert.rejects(ask(), OpenAI.RateLimitError);
running.controller.abort();
for (const stream of waiting) (await stream).controller.abort();
console.log("all good");
