import { useRef, useState } from "react";
import { ApiError } from "../api/call";
import type { AskBody } from "./options";
import { ask, type Measured, type Token } from "./stream";

/** What has become of a question. */
export type Phase = "idle" | "waiting" | "answering" | "done" | "failed";

/** One question and its answer, as it comes. */
export interface Asked {
  phase: Phase;
  busy: boolean;
  /** The request's name. */
  id: string;
  answer: string;
  tokens: Token[];
  measured: Measured | undefined;
  trouble: Error | null;
  /** The field that the service does not like. */
  field: string | null;
  /** Sends a request, whose answer comes token by token or whole; returns the answer, where it came to its end. */
  send: (body: AskBody, stream?: boolean) => Promise<string | null>;
  /** Forgets the answer. */
  clear: () => void;
  stop: () => void;
}

/** Keeps one question at a time. */
export function useAsk(): Asked {
  const [phase, setPhase] = useState<Phase>("idle");
  const [id, setId] = useState("");
  const [answer, setAnswer] = useState("");
  const [tokens, setTokens] = useState<Token[]>([]);
  const [measured, setMeasured] = useState<Measured>();
  const [trouble, setTrouble] = useState<Error | null>(null);
  const cancel = useRef<AbortController>(null);

  async function send(body: AskBody, stream = true): Promise<string | null> {
    const controller = new AbortController();
    cancel.current = controller;
    // Named here, so that the live events tell when it comes into the batch.
    const id = `console-${Array.from(crypto.getRandomValues(new Uint32Array(3)), (word) => word.toString(36)).join("")}`;
    setId(id);
    setAnswer("");
    setTokens([]);
    setMeasured(undefined);
    setTrouble(null);
    setPhase("waiting");
    let whole = "";
    try {
      const figures = await ask(
        id,
        body,
        stream,
        (text, more) => {
          whole += text;
          setPhase("answering");
          setAnswer((before) => before + text);
          setTokens((before) => [...before, ...more]);
        },
        controller.signal,
      );
      setMeasured(figures);
      setPhase("done");
      return whole;
    } catch (error) {
      setTrouble(controller.signal.aborted ? new Error("Stopped.") : (error as Error));
      setPhase("failed");
      return null;
    }
  }

  function clear() {
    setAnswer("");
    setTokens([]);
    setMeasured(undefined);
    setTrouble(null);
    setPhase("idle");
  }

  return {
    phase,
    busy: phase === "waiting" || phase === "answering",
    id,
    answer,
    tokens,
    measured,
    trouble,
    field: trouble instanceof ApiError ? trouble.field : null,
    send,
    clear,
    stop: () => cancel.current?.abort(),
  };
}
