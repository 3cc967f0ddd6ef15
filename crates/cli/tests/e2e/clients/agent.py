"""Uses a service through an agent framework's connector for OpenAI, unmodified."""

import sys

import in_line
import openai
from langchain_core.messages import HumanMessage
from langchain_openai import ChatOpenAI

url, key = sys.argv[1:3]


def chat(**more):
    settings = {"model": "pierdesk", "temperature": 0, "max_retries": 0, "api_key": key}
    return ChatOpenAI(base_url=url + "/v1", **(settings | more))


question = [("system", "Answer briefly."), ("user", "When is the last boat back from Tolsay on Sunday?")]
answer = chat().invoke(question)
assert "18:00" in answer.content, answer
assert answer.usage_metadata["output_tokens"] > 5
assert "".join(piece.content for piece in chat().stream(question)) == answer.content
assert "18:00" not in chat(stop=["18:00"]).invoke(question).content
drawn = chat(temperature=1.5, seed=3, n=2, max_tokens=12).generate([[HumanMessage("Tell me a joke")]])
assert len(drawn.generations[0]) == 2
again = chat(temperature=1.5, seed=3, n=2, max_tokens=12).generate([[HumanMessage("Tell me a joke")]])
assert [one.text for one in drawn.generations[0]] == [one.text for one in again.generations[0]]
logprobs = chat(logprobs=True, top_logprobs=2).invoke(question).response_metadata["logprobs"]["content"]
assert len(logprobs[0]["top_logprobs"]) == 2


def expect(kind, **settings):
    try:
        chat(**settings).invoke(question)
    except kind:
        return
    raise AssertionError(f"no {kind.__name__}")


expect(openai.NotFoundError, model="nope")
expect(openai.BadRequestError, temperature=9)
expect(openai.AuthenticationError, api_key="vr-wrong")

# One in the batch, two waiting: the next is told to come back.
client = openai.OpenAI(base_url=url + "/v1", api_key=key, max_retries=0)
long = {"model": "pierdesk", "messages": [{"role": "user", "content": "Hello"}], "stream": True, "max_tokens": 1900, "extra_body": {"min_tokens": 1900}}
running = client.chat.completions.create(**long)
next(iter(running))
waiting = in_line.fill(client, long, 2, url, key)
expect(openai.RateLimitError)
running.close()
for thread in waiting:
    thread.join()
print("all good")
