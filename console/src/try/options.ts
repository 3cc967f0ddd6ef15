/** What can be set of a request besides the question. */
export interface Options {
  system: string;
  temperature: string;
  max_tokens: string;
  top_p: string;
  seed: string;
  stop: string;
  /** Whether the answer comes token by token, or whole. */
  stream: boolean;
}

export const NO_OPTIONS: Options = {
  system: "",
  temperature: "",
  max_tokens: "",
  top_p: "",
  seed: "",
  stop: "",
  stream: true,
};

/** Who said what in a conversation. */
export interface Turn {
  role: string;
  content: string;
}

/** A request on the OpenAI wire: a conversation, or a text to be continued. */
export interface AskBody {
  model: string;
  messages?: Turn[];
  prompt?: string;
  [field: string]: unknown;
}

/** Where a request is sent to. */
export function addressOf(body: AskBody): string {
  return body.messages ? "/v1/chat/completions" : "/v1/completions";
}

/** The request of a conversation that has come so far, without what only the page wants to know. */
export function chatBody(
  model: string,
  question: string,
  options: Options,
  before: Turn[] = [],
): AskBody {
  const messages = [...before, { role: "user", content: question }];
  if (options.system.trim()) messages.unshift({ role: "system", content: options.system });
  return withOptions({ model, messages }, options);
}

/** The request for a text to be continued as it is. */
export function plainBody(model: string, prompt: string, options: Options): AskBody {
  return withOptions({ model, prompt }, options);
}

function withOptions(body: AskBody, options: Options): AskBody {
  for (const name of ["temperature", "max_tokens", "top_p", "seed"] as const) {
    if (options[name].trim() !== "" && !Number.isNaN(Number(options[name]))) {
      body[name] = Number(options[name]);
    }
  }
  if (options.stop) body.stop = [options.stop];
  return body;
}
