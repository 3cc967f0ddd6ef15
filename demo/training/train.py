"""Trains the passenger desk's model from scratch on the CPU and writes it as sharded bf16 safetensors.

    python train.py [--minutes 48] [--seed 1]                        from random weights
    python train.py --continue [--minutes 35] [--rate 0.0015]        from the weights that are there

Decoder-only transformer of the common open-weight layout: RMS norm before each block, rotary positions over the two
halves of a head, grouped-query attention, gated SiLU MLP, tied embeddings. Conversations are packed into rows of
`LENGTH` tokens, each attending to itself only; in the second half every sixth batch has long rows of many turns, so that
long chats hold together.
"""

import argparse
import functools
import json
import pathlib
import random
import time

import jax
import jax.numpy as jnp
import ml_dtypes
import numpy as np
from safetensors.numpy import load_file, save_file
from tokenizers import Tokenizer

import conversations

DEMO = pathlib.Path(__file__).resolve().parent.parent
MODEL = DEMO / "models" / "pierdesk-1"
SHAPE = {
    "vocab_size": 2048, "hidden_size": 192, "intermediate_size": 640, "num_hidden_layers": 4,
    "num_attention_heads": 6, "num_key_value_heads": 2, "head_dim": 32, "rms_norm_eps": 1e-5, "rope_theta": 10000.0,
    "max_position_embeddings": 2048,
}
LENGTH, ROWS = 160, 24
LONG_LENGTH, LONG_ROWS = 1024, 4
NAMES = {
    "input_norm": "input_layernorm", "post_norm": "post_attention_layernorm", "q": "self_attn.q_proj",
    "k": "self_attn.k_proj", "v": "self_attn.v_proj", "o": "self_attn.o_proj", "gate": "mlp.gate_proj",
    "up": "mlp.up_proj", "down": "mlp.down_proj",
}
PEAK_RATE, SHARD_BYTES = 2.5e-3, 3_500_000


def initial(key):
    """Returns f32 weights; per-layer tensors are stacked along their first axis."""
    d, f, v, n = SHAPE["hidden_size"], SHAPE["intermediate_size"], SHAPE["vocab_size"], SHAPE["num_hidden_layers"]
    q = SHAPE["num_attention_heads"] * SHAPE["head_dim"]
    kv = SHAPE["num_key_value_heads"] * SHAPE["head_dim"]
    keys = iter(jax.random.split(key, 8))
    normal = lambda *shape, scale=1.0: jax.random.normal(next(keys), shape) * scale * 0.02
    deep = (2 * n) ** -0.5
    return {
        "embed": normal(v, d), "norm": jnp.ones(d),
        "layers": {
            "input_norm": jnp.ones((n, d)), "post_norm": jnp.ones((n, d)),
            "q": normal(n, q, d), "k": normal(n, kv, d), "v": normal(n, kv, d), "o": normal(n, d, q, scale=deep),
            "gate": normal(n, f, d), "up": normal(n, f, d), "down": normal(n, d, f, scale=deep),
        },
    }


def rms_norm(x, weight):
    return x * jax.lax.rsqrt(jnp.mean(x * x, -1, keepdims=True) + SHAPE["rms_norm_eps"]) * weight


def rotate(x):
    """Rotates pairs (i, i + half) of each head by position-dependent angles; x is [batch, time, heads, head_dim]."""
    half = SHAPE["head_dim"] // 2
    # Tables made by numpy: as part of the compiled program, sines would be computed again for every use.
    angles = np.arange(x.shape[1])[:, None] * SHAPE["rope_theta"] ** (-np.arange(half) / half)
    cos, sin = (f(angles)[None, :, None].astype(np.float32) for f in (np.cos, np.sin))
    a, b = x[..., :half], x[..., half:]
    return jnp.concatenate([a * cos - b * sin, b * cos + a * sin], -1)


def forward(weights, ids, segments):
    """Returns logits [batch, time, vocabulary]; positions of different segments do not see each other."""
    batch, time_ = ids.shape
    heads, groups, size = SHAPE["num_attention_heads"], SHAPE["num_key_value_heads"], SHAPE["head_dim"]
    mask = (segments[:, :, None] == segments[:, None, :]) & (jnp.arange(time_)[:, None] >= jnp.arange(time_)[None])
    mask = mask[:, None]

    def layer(x, w):
        h = rms_norm(x, w["input_norm"])
        q = rotate((h @ w["q"].T).reshape(batch, time_, heads, size))
        k = rotate((h @ w["k"].T).reshape(batch, time_, groups, size))
        v = (h @ w["v"].T).reshape(batch, time_, groups, size)
        # One matrix product per KV head, its query heads side by side, is what the CPU multiplies fastest.
        each = heads // groups
        q = q.reshape(batch, time_, groups, each, size).transpose(0, 2, 3, 1, 4).reshape(batch * groups, each * time_, size)
        k, v = (a.transpose(0, 2, 1, 3).reshape(batch * groups, time_, size) for a in (k, v))
        scores = (q @ k.swapaxes(1, 2)).reshape(batch, groups * each, time_, time_) * size**-0.5
        share = jax.nn.softmax(jnp.where(mask, scores, -1e30), -1)
        mixed = share.reshape(batch * groups, each * time_, time_) @ v
        mixed = mixed.reshape(batch, heads, time_, size).transpose(0, 2, 1, 3).reshape(batch, time_, heads * size)
        x = x + mixed @ w["o"].T
        h = rms_norm(x, w["post_norm"])
        return x + (jax.nn.silu(h @ w["gate"].T) * (h @ w["up"].T)) @ w["down"].T

    x = weights["embed"][ids]
    for index in range(SHAPE["num_hidden_layers"]):
        x = layer(x, jax.tree.map(lambda w: w[index], weights["layers"]))
    return rms_norm(x, weights["norm"]) @ weights["embed"].T


def loss(weights, ids, segments, weight):
    logits = forward(weights, ids[:, :-1], segments[:, :-1])
    target = ids[:, 1:]
    # A one-hot product, as the gradient of a gather is a scatter, which is slow on the CPU.
    picked = (logits * jax.nn.one_hot(target, logits.shape[-1])).sum(-1)
    nats = jax.nn.logsumexp(logits, -1) - picked
    weight = weight[:, 1:]
    return (nats * weight).sum() / weight.sum()


@functools.partial(jax.jit, donate_argnums=(0, 1, 2))
def step(weights, first, second, count, rate, ids, segments, weight):
    """One AdamW step (Decoupled Weight Decay Regularization, Loshchilov and Hutter, 2019)."""
    value, grads = jax.value_and_grad(loss)(weights, ids, segments, weight)
    norm = jnp.sqrt(sum(jnp.sum(g * g) for g in jax.tree.leaves(grads)))
    grads = jax.tree.map(lambda g: g * jnp.minimum(1.0, 1.0 / (norm + 1e-9)), grads)
    first = jax.tree.map(lambda m, g: 0.9 * m + 0.1 * g, first, grads)
    second = jax.tree.map(lambda v, g: 0.98 * v + 0.02 * g * g, second, grads)

    def update(w, m, v):
        decay = 0.05 if w.ndim > 1 else 0.0
        return w - rate * ((m / (1 - 0.9**count)) / (jnp.sqrt(v / (1 - 0.98**count)) + 1e-9) + decay * w)

    return jax.tree.map(update, weights, first, second), first, second, value


class Encoder:
    """Turns conversations into ids and per-token loss weights, as the chat template would."""

    def __init__(self):
        self.tokenizer = Tokenizer.from_file(str(MODEL / "tokenizer.json"))
        self.special = {role: self.tokenizer.token_to_id(token) for role, token in
                        {"system": "<notice>", "user": "<passenger>", "assistant": "<desk>"}.items()}
        self.hail, self.over = self.tokenizer.token_to_id("<hail>"), self.tokenizer.token_to_id("<over>")

    def encode(self, messages):
        """Returns ids and weights; a token's weight counts when it is the one to predict."""
        ids, weights = [self.hail], [0.0]
        for message in messages:
            text = self.tokenizer.encode(message["content"], add_special_tokens=False).ids
            answer = message["role"] == "assistant"
            ids += [self.special[message["role"]], *text, self.over]
            weights += [0.0] + [1.0 if answer else 0.05] * len(text) + [1.0 if answer else 0.05]
        return ids, weights


def pack(encoder, rng, rows, length, more):
    """Returns [rows, length + 1] ids, segments and weights filled with whole conversations where they fit."""
    ids = np.zeros((rows, length + 1), np.int32)
    segments = np.zeros((rows, length + 1), np.int32)
    weights = np.zeros((rows, length + 1), np.float32)
    for row in range(rows):
        at, segment = 0, 1
        while at < length + 1:
            tokens, share = encoder.encode(conversations.draw_conversation(rng, more))
            room = length + 1 - at
            if len(tokens) > room and at > 0 and room < length // 2:
                break
            tokens, share = tokens[:room], share[:room]
            ids[row, at:at + len(tokens)] = tokens
            segments[row, at:at + len(tokens)] = segment
            weights[row, at:at + len(tokens)] = share
            at, segment = at + len(tokens), segment + 1
    return ids, segments, weights


def exact_share(weights, encoder, name):
    """Returns the share of held-out items whose greedy answer is the canonical one, word for word."""
    items = [json.loads(line) for line in (DEMO / "held-out" / f"{name}.jsonl").read_text("utf-8").splitlines()]
    hits, missed = 0, []
    compiled = jax.jit(forward)
    for start in range(0, len(items), 16):
        part = items[start:start + 16]
        ids, share = np.zeros((16, 320), np.int32), np.zeros((16, 320), bool)
        for row, item in enumerate(part):
            whole = encoder.encode(item["messages"] + [{"role": "assistant", "content": item["answer"]}])[0]
            before = len(encoder.encode(item["messages"])[0]) + 1
            ids[row, :len(whole)] = whole
            share[row, before:len(whole)] = True
        guess = np.asarray(compiled(weights, ids, np.ones_like(ids)).argmax(-1))
        good = ((guess[:, :-1] == ids[:, 1:]) | ~share[:, 1:]).all(1)
        hits += int(good[:len(part)].sum())
        missed += [item for item, ok in zip(part, good) if not ok]
    return hits / len(items), missed


def save(weights):
    """Writes config, generation config and bf16 shards below 4 MB each."""
    layers = weights["layers"]
    tensors = {"model.embed_tokens.weight": weights["embed"]}
    for index in range(SHAPE["num_hidden_layers"]):
        for ours, theirs in NAMES.items():
            tensors[f"model.layers.{index}.{theirs}.weight"] = layers[ours][index]
    tensors["model.norm.weight"] = weights["norm"]
    tensors = {name: np.asarray(value).astype(ml_dtypes.bfloat16) for name, value in tensors.items()}
    shards, size = [{}], 0
    for name, value in tensors.items():
        if size + value.nbytes > SHARD_BYTES:
            shards.append({})
            size = 0
        shards[-1][name] = value
        size += value.nbytes
    for old in MODEL.glob("*.safetensors"):
        old.unlink()
    where = {}
    for index, shard in enumerate(shards):
        file = f"model-{index + 1:05}-of-{len(shards):05}.safetensors"
        save_file(shard, MODEL / file, metadata={"format": "pt"})
        where |= dict.fromkeys(shard, file)
    total = sum(value.nbytes for value in tensors.values())
    write_json("model.safetensors.index.json", {"metadata": {"total_size": total}, "weight_map": where})
    write_json("config.json", {
        "architectures": ["LlamaForCausalLM"], "model_type": "llama", **SHAPE, "hidden_act": "silu",
        "attention_bias": False, "mlp_bias": False, "rope_scaling": None, "tie_word_embeddings": True,
        "torch_dtype": "bfloat16", "bos_token_id": 0, "eos_token_id": 4,
    })
    write_json("generation_config.json", {"bos_token_id": 0, "eos_token_id": [4], "do_sample": False})
    print(f"saved {sum(v.size for v in tensors.values()):,} parameters in {len(shards)} shards")


def load():
    """Returns the weights that `save` has written."""
    where = json.loads((MODEL / "model.safetensors.index.json").read_text("utf-8"))["weight_map"]
    tensors = {}
    for file in sorted(set(where.values())):
        tensors |= {name: np.asarray(value, np.float32) for name, value in load_file(MODEL / file).items()}
    stack = lambda name: jnp.stack([
        tensors[f"model.layers.{index}.{name}.weight"] for index in range(SHAPE["num_hidden_layers"])
    ])
    return {
        "embed": jnp.asarray(tensors["model.embed_tokens.weight"]), "norm": jnp.asarray(tensors["model.norm.weight"]),
        "layers": {ours: stack(theirs) for ours, theirs in NAMES.items()},
    }


def write_json(name, value):
    (MODEL / name).write_text(json.dumps(value, indent=2) + "\n", encoding="utf-8")


def rounded(weights):
    return jax.tree.map(lambda w: jnp.asarray(w).astype(jnp.bfloat16).astype(jnp.float32), weights)


def main():
    options = argparse.ArgumentParser()
    options.add_argument("--minutes", type=float, default=48)
    options.add_argument("--seed", type=int, default=1)
    options.add_argument("--rate", type=float, default=PEAK_RATE)
    options.add_argument("--continue", action="store_true", dest="proceed")
    options = options.parse_args()
    encoder, rng = Encoder(), random.Random(options.seed)
    weights = load() if options.proceed else initial(jax.random.key(options.seed))
    first, second = jax.tree.map(jnp.zeros_like, weights), jax.tree.map(jnp.zeros_like, weights)
    mean = None
    begun, count, seen, smooth, told = time.time(), 0, 0, None, 0.0
    while (done := (time.time() - begun) / (60 * options.minutes)) < 1:
        # Every sixth batch of the second half is one of long conversations.
        long = done > 0.5 and count % 6 == 0
        rows, length, more = (LONG_ROWS, LONG_LENGTH, 0.93) if long else (ROWS, LENGTH, 0.25)
        batch = pack(encoder, rng, rows, length, more)
        count += 1
        rate = options.rate * min(1.0, count / 200) * max(0.02, 1 - done)
        weights, first, second, value = step(weights, first, second, count, rate, *batch)
        if done >= 0.5:
            mean = jax.tree.map(lambda m, w: 0.99 * m + 0.01 * w, mean or weights, weights)
        seen += rows * length
        smooth = float(value) if smooth is None else 0.98 * smooth + 0.02 * float(value)
        if time.time() - told > 60:
            told = time.time()
            print(f"{(told - begun) / 60:5.1f} min  step {count}  {seen / 1e6:.1f} M tokens  loss {smooth:.4f}", flush=True)
        if count % 500 == 0:
            report(rounded(mean or weights), encoder)
    report(rounded(mean), encoder, show=30)
    save(mean)


def report(weights, encoder, show=0):
    for name in ("questions", "follow-ups"):
        share, missed = exact_share(weights, encoder, name)
        print(f"       {name}: {share:.1%} answered word for word", flush=True)
        for item in missed[:show]:
            print("         missed:", item["kind"], "|", item["messages"][-1]["content"])


if __name__ == "__main__":
    main()
