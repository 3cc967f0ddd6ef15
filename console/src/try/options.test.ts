import { describe, expect, it } from "vitest";
import { NO_OPTIONS, addressOf, chatBody, plainBody } from "./options";

describe("the request that the page sends", () => {
  it("has nothing but the question unless something is set", () => {
    expect(chatBody("pierdesk", "Hello", NO_OPTIONS)).toEqual({
      model: "pierdesk",
      messages: [{ role: "user", content: "Hello" }],
    });
  });

  it("puts the system prompt first and numbers as numbers", () => {
    const options = { ...NO_OPTIONS, system: "Be brief.", temperature: "0.5", max_tokens: "8" };
    expect(chatBody("pierdesk", "Hello", { ...options, stop: "END" })).toEqual({
      model: "pierdesk",
      messages: [
        { role: "system", content: "Be brief." },
        { role: "user", content: "Hello" },
      ],
      temperature: 0.5,
      max_tokens: 8,
      stop: ["END"],
    });
  });

  it("leaves out what is no number", () => {
    const body = chatBody("pierdesk", "Hello", { ...NO_OPTIONS, seed: "seven", top_p: " " });
    expect(Object.keys(body)).toEqual(["model", "messages"]);
  });

  it("has what was said before, between the system prompt and the question", () => {
    const before = [
      { role: "user", content: "Hello" },
      { role: "assistant", content: "Good day." },
    ];
    const body = chatBody("pierdesk", "When?", { ...NO_OPTIONS, system: "Be brief." }, before);
    expect(body.messages?.map(({ content }) => content)).toEqual([
      "Be brief.",
      "Hello",
      "Good day.",
      "When?",
    ]);
    expect(addressOf(body)).toBe("/v1/chat/completions");
  });

  it("is a text where one is to be continued", () => {
    const body = plainBody("pierdesk", "The last boat", { ...NO_OPTIONS, max_tokens: "4" });
    expect(body).toEqual({ model: "pierdesk", prompt: "The last boat", max_tokens: 4 });
    expect(addressOf(body)).toBe("/v1/completions");
  });
});
