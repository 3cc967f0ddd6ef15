import { addressOf, type AskBody } from "./options";

/** Languages in which the request on the page can be copied. */
export const LANGUAGES = ["curl", "Python", "JavaScript", "vastrelay"] as const;
export type Language = (typeof LANGUAGES)[number];

/** Returns a program that sends this very request; `keyed` where the service wants a key. */
export function program(language: Language, origin: string, body: AskBody, keyed: boolean): string {
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

function curl(origin: string, body: AskBody, keyed: boolean): string {
  const key = keyed ? ` -H "authorization: Bearer $VASTRELAY_KEY"` : "";
  return `curl ${origin}${addressOf(body)} -H 'content-type: application/json'${key} -d ${quoted(JSON.stringify(body))}`;
}

/** Fields that the official Python client has no words for: they go where it lets anything pass. */
const OWN_FIELDS = ["top_k", "min_p", "repetition_penalty", "min_tokens", "include"];

function python(origin: string, body: AskBody, keyed: boolean): string {
  const key = keyed ? 'os.environ["VASTRELAY_KEY"]' : '"none"';
  const own = Object.entries(body).filter(([name]) => OWN_FIELDS.includes(name));
  const fields = Object.entries(body)
    .filter(([name]) => !OWN_FIELDS.includes(name))
    .map(([name, value]) => `    ${name}=${pythonValue(value)},`);
  if (own.length > 0) fields.push(`    extra_body=${pythonValue(Object.fromEntries(own))},`);
  return [
    ...(keyed ? ["import os", ""] : []),
    "from openai import OpenAI",
    "",
    `client = OpenAI(base_url="${origin}/v1", api_key=${key})`,
    `answer = client.${calls(body)}.create(`,
    ...fields,
    ")",
    ...(body.stream
      ? ["for piece in answer:", `    print(piece.choices[0].${said(body, true)} or "", end="")`]
      : [`print(answer.choices[0].${said(body, false)})`]),
  ].join("\n");
}

/** A JSON value as Python writes it: texts, numbers and brackets are the same, three words are not. */
function pythonValue(value: unknown): string {
  if (value === null) return "None";
  if (value === true) return "True";
  if (value === false) return "False";
  if (Array.isArray(value)) return `[${value.map(pythonValue).join(", ")}]`;
  if (typeof value === "object") {
    const fields = Object.entries(value).map(
      ([name, inner]) => `${JSON.stringify(name)}: ${pythonValue(inner)}`,
    );
    return `{${fields.join(", ")}}`;
  }
  return JSON.stringify(value);
}

function javascript(origin: string, body: AskBody, keyed: boolean): string {
  const key = keyed ? "process.env.VASTRELAY_KEY" : '"none"';
  return [
    'import OpenAI from "openai";',
    "",
    `const client = new OpenAI({ baseURL: "${origin}/v1", apiKey: ${key} });`,
    `const answer = await client.${calls(body)}.create(${JSON.stringify(body, null, 2)});`,
    ...(body.stream
      ? [
          "for await (const piece of answer)",
          `  process.stdout.write(piece.choices[0]?.${said(body, true)} ?? "");`,
        ]
      : [`console.log(answer.choices[0].${said(body, false)});`]),
  ].join("\n");
}

/** What the official clients call the calls of a request. */
function calls(body: AskBody): string {
  return body.messages ? "chat.completions" : "completions";
}

/** Where the text stands in an answer, or in a piece of it. */
function said(body: AskBody, inPieces: boolean): string {
  if (!body.messages) return "text";
  return inPieces ? "delta.content" : "message.content";
}

/** Fields and the options that say the same. */
const OPTIONS = [
  ["temperature", "--temperature"],
  ["max_tokens", "--max-tokens"],
  ["top_p", "--top-p"],
  ["top_k", "--top-k"],
  ["min_p", "--min-p"],
  ["seed", "--seed"],
] as const;

function ownClient(origin: string, body: AskBody, keyed: boolean): string {
  if (!body.messages)
    return "# It asks in conversations only; the other languages continue a text.";
  const words = [keyed ? "VASTRELAY_KEY=… vastrelay ask" : "vastrelay ask", `--url ${origin}`];
  words.push(`--model ${body.model}`);
  const said = [...body.messages];
  const question = said.pop();
  const system = said[0]?.role === "system" ? said.shift() : undefined;
  if (system) words.push(`--system ${quoted(String(system.content))}`);
  for (const [field, option] of OPTIONS) {
    if (body[field] !== undefined && body[field] !== null) {
      words.push(`${option} ${String(body[field])}`);
    }
  }
  const stops = [body.stop ?? []].flat() as string[];
  for (const stop of stops) words.push(`--stop ${quoted(stop)}`);
  const content = question?.content;
  words.push(quoted(typeof content === "string" ? content : JSON.stringify(content ?? "")));
  const known = ["model", "messages", "stop", "stream", ...OPTIONS.map(([field]) => field)];
  const left = Object.keys(body).filter((field) => !known.includes(field as never));
  if (said.length > 0) left.unshift("the messages before the last");
  const note = `# It has no words for ${left.join(", ")}; the other languages send all of it.`;
  return left.length > 0 ? `${words.join(" ")}\n${note}` : words.join(" ");
}
