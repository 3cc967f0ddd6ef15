/** What is asked of a model and a device; every part is in the page's address. */
export interface Question {
  model: string;
  device: string;
  split: number | null;
  weights: string;
  kv: string;
  context: number | null;
  width: number | null;
  memory_share: number | null;
  prompt: number | null;
  answer: number | null;
  concurrency: number;
}

export const WEIGHTS = ["as-stored", "f32", "bf16", "int8", "int4"];
export const KV = ["f32", "bf16", "int8"];
export const WIDTHS = [1, 2, 4, 8, 16, 32, 64, 128, 256];
export const SHARES = Array.from({ length: 19 }, (_, at) => (at + 2) / 20);
export const TOKENS = [16, 50, 100, 200, 400, 512, 600, 1000, 1536, 2000, 4000, 8000, 16000];
export const CALLERS = [1, 2, 4, 8, 16, 24, 32, 48, 64, 96, 128, 192, 256];

const USUAL: Question = {
  model: "",
  device: "sim-48g",
  split: null,
  weights: "as-stored",
  kv: "bf16",
  context: null,
  width: null,
  memory_share: null,
  prompt: null,
  answer: null,
  concurrency: 1,
};

/** Lengths that a model supports, to choose from: powers of two, and its own. */
export function contexts(most: number): number[] {
  const all = [];
  for (let length = 256; length < most; length *= 2) all.push(length);
  return [...all, most];
}

/** Reads a question from an address; what is no number there is as usual. */
export function read(query: URLSearchParams, model: string): Question {
  const number = (name: keyof Question) => {
    const value = Number(query.get(name) ?? "");
    return value > 0 ? value : (USUAL[name] as number | null);
  };
  const word = (name: keyof Question) => query.get(name) ?? (USUAL[name] as string);
  return {
    model: query.get("model") ?? model,
    device: word("device"),
    split: number("split"),
    weights: word("weights"),
    kv: word("kv"),
    context: number("context"),
    width: number("width"),
    memory_share: number("memory_share"),
    prompt: number("prompt"),
    answer: number("answer"),
    concurrency: number("concurrency") ?? 1,
  };
}

/** Writes a question as the query of an address, the console's and the service's. */
export function write(question: Question): URLSearchParams {
  const query = new URLSearchParams();
  for (const [name, value] of Object.entries(question))
    if (value !== null && value !== "") query.set(name, String(value));
  return query;
}
