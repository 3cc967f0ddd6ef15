"""Uses a service through the official client, as an application would."""

import sys

import in_line
import openai

url, key = sys.argv[1:3]
client = openai.OpenAI(base_url=url + "/v1", api_key=key, max_retries=0)
question = [{"role": "user", "content": "When is the last boat back from Tolsay on Sunday?"}]

assert [model.id for model in client.models.list()] == ["pierdesk"]
assert client.models.retrieve("pierdesk").id == "pierdesk"

answer = client.chat.completions.create(model="pierdesk", messages=question, temperature=0)
text = answer.choices[0].message.content
assert "18:00" in text, text
assert answer.choices[0].finish_reason == "stop" and answer.usage.completion_tokens > 5

pieces, usage = "", None
options = {"include_usage": True}
for chunk in client.chat.completions.create(
    model="pierdesk", messages=question, temperature=0, stream=True, stream_options=options
):
    pieces += "".join(choice.delta.content or "" for choice in chunk.choices)
    usage = chunk.usage or usage
assert pieces == text, pieces
assert usage.completion_tokens == answer.usage.completion_tokens

again = client.chat.completions.create(
    model="pierdesk", messages=[*question, answer.choices[0].message, {"role": "user", "content": "And on Saturdays?"}]
)
assert "18:55" in again.choices[0].message.content, again

stopped = client.chat.completions.create(model="pierdesk", messages=question, temperature=0, stop=["18:00"])
assert stopped.choices[0].message.content == text.split("18:00")[0], stopped

drawn = {"model": "pierdesk", "messages": question, "seed": 4, "temperature": 1.5, "max_tokens": 12}
first, second = (client.chat.completions.create(**drawn).choices[0].message.content for _ in range(2))
assert first == second, (first, second)

several = client.chat.completions.create(
    model="pierdesk", messages=question, n=2, seed=4, temperature=1.5, max_tokens=12, logprobs=True, top_logprobs=2
)
assert len(several.choices) == 2 and len(several.choices[0].logprobs.content[0].top_logprobs) == 2

plain = client.completions.create(model="pierdesk", prompt="The last boat to Tolsay", max_tokens=8, logprobs=1)
assert plain.choices[0].text and len(plain.choices[0].logprobs.tokens) == plain.usage.completion_tokens
read = client.completions.create(model="pierdesk", prompt="The last boat to Tolsay", max_tokens=0, echo=True, logprobs=1)
lists = read.choices[0].logprobs
assert read.choices[0].text == "The last boat to Tolsay" and lists.tokens[0] == "The", read
assert lists.token_logprobs[0] is None and all(logprob <= 0 for logprob in lists.token_logprobs[1:]), lists
extended = client.completions.create(model="pierdesk", prompt=[5, 6, 7], max_tokens=3, extra_body={"include": ["token_ids"], "min_tokens": 3})
assert len(extended.choices[0].token_ids) == 3


def expect(kind, **fields):
    try:
        client.chat.completions.create(**({"model": "pierdesk", "messages": question} | fields))
    except kind as error:
        return error
    raise AssertionError(f"no {kind.__name__}")


assert "pierdesk" in expect(openai.NotFoundError, model="nope").message
assert "temperature" in expect(openai.BadRequestError, temperature=9).message
assert expect(openai.BadRequestError, max_tokens=100000).code == "context_length_exceeded"

try:
    client.with_options(api_key="vr-wrong").models.list()
    raise AssertionError("a wrong key was taken")
except openai.AuthenticationError as error:
    assert error.code == "unknown_key", error

# One in the batch, two waiting: the next is told to come back.
long = {"model": "pierdesk", "messages": question, "stream": True, "max_tokens": 1900, "extra_body": {"min_tokens": 1900}}
running = client.chat.completions.create(**long)
next(iter(running))
waiting = in_line.fill(client, long, 2, url, key)
refused = expect(openai.RateLimitError)
assert int(refused.response.headers["retry-after"]) >= 1
running.close()
for thread in waiting:
    thread.join()
print("all good")
