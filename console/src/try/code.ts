import type { ChatBody } from "./options";

/** Languages in which the request on the page can be copied. */
export const LANGUAGES = ["curl", "Python", "JavaScript", "vastrelay"] as const;
export type Language = (typeof LANGUAGES)[number];

/** Returns a program that sends this very request; `keyed` where the service wants a key. */
export function program(
  language: Language,
  origin: string,
  body: ChatBody,
  keyed: boolean,
): string {
  switch (language) {
    case "curl":
      return curl(origin, body, keyed);
    case "Python":
      return python(origin, body, keyed);
    case "JavaScript":
      return javascript(origin, body, keyed);
    case "vastrelay":
      return ownClient(origin, body, keyed);
  }
}

/** A text as one word of a shell. */
function quoted(text: string): string {
  return `'${text.replaceAll("'", `'\\''`)}'`;
}

function curl(origin: string, body: ChatBody, keyed: boolean): string {
  const key = keyed ? ` -H "authorization: Bearer $VASTRELAY_KEY"` : "";
  return `curl ${origin}/v1/chat/completions -H 'content-type: application/json'${key} -d ${quoted(JSON.stringify(body))}`;
}

function python(origin: string, body: ChatBody, keyed: boolean): string {
  const key = keyed ? 'os.environ["VASTRELAY_KEY"]' : '"none"';
  // JSON is Python, but for these three words; none of them is in a body of ours outside of texts.
  const fields = Object.entries(body).map(
    ([name, value]) => `    ${name}=${JSON.stringify(value)},`,
  );
  return [
    ...(keyed ? ["import os", ""] : []),
    "from openai import OpenAI",
    "",
    `client = OpenAI(base_url="${origin}/v1", api_key=${key})`,
    "answer = client.chat.completions.create(",
    ...fields,
    ")",
    "print(answer.choices[0].message.content)",
  ].join("\n");
}

function javascript(origin: string, body: ChatBody, keyed: boolean): string {
  const key = keyed ? "process.env.VASTRELAY_KEY" : '"none"';
  return [
    'import OpenAI from "openai";',
    "",
    `const client = new OpenAI({ baseURL: "${origin}/v1", apiKey: ${key} });`,
    `const answer = await client.chat.completions.create(${JSON.stringify(body, null, 2)});`,
    "console.log(answer.choices[0].message.content);",
  ].join("\n");
}

function ownClient(origin: string, body: ChatBody, keyed: boolean): string {
  const words = [keyed ? "VASTRELAY_KEY=… vastrelay ask" : "vastrelay ask", `--url ${origin}`];
  words.push(`--model ${body.model}`);
  const system = body.messages.find(({ role }) => role === "system");
  if (system) words.push(`--system ${quoted(system.content)}`);
  for (const [field, option] of [
    ["temperature", "--temperature"],
    ["max_tokens", "--max-tokens"],
    ["top_p", "--top-p"],
    ["seed", "--seed"],
  ] as const) {
    if (body[field] !== undefined) words.push(`${option} ${String(body[field])}`);
  }
  for (const stop of (body.stop as string[] | undefined) ?? [])
    words.push(`--stop ${quoted(stop)}`);
  words.push(quoted(body.messages.at(-1)?.content ?? ""));
  return words.join(" ");
}
