import { describe, expect, it } from "vitest";
import { NO_OPTIONS, chatBody } from "./options";

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
});
