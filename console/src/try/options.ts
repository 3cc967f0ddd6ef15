/** What can be set of a request besides the question. */
export interface Options {
  system: string;
  temperature: string;
  max_tokens: string;
  top_p: string;
  seed: string;
  stop: string;
}

export const NO_OPTIONS: Options = {
  system: "",
  temperature: "",
  max_tokens: "",
  top_p: "",
  seed: "",
  stop: "",
};

/** A request on the OpenAI wire. */
export interface ChatBody {
  model: string;
  messages: { role: string; content: string }[];
  [field: string]: unknown;
}

/** Returns the very request that the page sends, without what only the page wants to know. */
export function chatBody(model: string, question: string, options: Options): ChatBody {
  const messages = [{ role: "user", content: question }];
  if (options.system.trim()) messages.unshift({ role: "system", content: options.system });
  const body: ChatBody = { model, messages };
  for (const name of ["temperature", "max_tokens", "top_p", "seed"] as const) {
    if (options[name].trim() !== "" && !Number.isNaN(Number(options[name]))) {
      body[name] = Number(options[name]);
    }
  }
  if (options.stop) body.stop = [options.stop];
  return body;
}
