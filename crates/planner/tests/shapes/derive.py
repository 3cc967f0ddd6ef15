"""Bytes of weights and KV of five shapes, from their configs alone: written apart from the planner, to check it.

Usage: python3 derive.py > expected.json

A layer of a decoder-only transformer of width d, with h query heads and k KV heads of e elements, and an MLP of inner width f, has

    queries h*e x d, keys k*e x d, values k*e x d, way out d x h*e, gate f x d, up f x d, down d x f

and two norms of d. Besides there are an embedding and, unless it is tied, a head of v x d, and one more norm. With experts, each layer has a
router n x d and n times the three matrices of an expert's own inner width.

Over s devices each has h/s query heads, k/s KV heads but at least one, f/s of every inner width, and at most ceil(v/s) rows of embedding and head.
Norms and routers are on each.

A matrix takes 4 bytes a weight in f32 and 2 in bf16. In int8 and int4 with groups of g it takes 1 or 1/2, and for each group a scale of
2 bytes; int4 has a minimum of 2 bytes as well. Embedding, head and router then stay in bf16, as these configs store them. Norms take 4 bytes.

A token's keys and values take 2 * heads * e elements in each layer: of 4 bytes in f32, 2 in bf16, and 1 in int8, where each head's keys and
each head's values have a scale of 4 bytes.
"""

import json
from math import ceil
from pathlib import Path

HERE = Path(__file__).parent
DEMO = HERE / "../../../../demo/shapes"
CONFIGS = {
    "harbour-8b": DEMO / "harbour-8b/config.json",
    "strait-34b": DEMO / "strait-34b/config.json",
    "lighthouse-70b": DEMO / "lighthouse-70b/config.json",
    "thirteen-heads": HERE / "thirteen-heads.json",
    "eight-experts": HERE / "eight-experts.json",
}


def matrix(weights, precision, group):
    """Bytes of a matrix of so many weights."""
    if precision == "f32":
        return 4 * weights
    if precision == "bf16":
        return 2 * weights
    groups = ceil(weights / group)
    if precision == "int8":
        return weights + 2 * groups
    return weights // 2 + 2 * groups + 2 * groups


def weights(c, precision, group, s):
    """Bytes of all weights on the device that has most."""
    d, e = c["hidden_size"], c["head_dim"]
    h = c["num_attention_heads"] // s
    k = max(c["num_key_value_heads"] // s, 1)
    f = c["intermediate_size"] // s
    v = ceil(c["vocab_size"] / s)
    plain = precision if precision in ("f32", "bf16") else "bf16"
    total = matrix(v * d, plain, group) * (1 if c["tie_word_embeddings"] else 2) + 4 * d
    for _ in range(c["num_hidden_layers"]):
        for count in (h * e * d, k * e * d, k * e * d, d * h * e):
            total += matrix(count, precision, group)
        experts = c.get("num_local_experts", 0)
        if experts:
            total += matrix(experts * d, plain, group)
        for _ in range(max(experts, 1)):
            total += 3 * matrix(f * d, precision, group)
        total += 2 * 4 * d
    return total


def token(c, kv, s):
    """Bytes of a token's keys and values on one device."""
    heads = max(c["num_key_value_heads"] // s, 1)
    e = c["head_dim"]
    one = {"f32": 4 * e, "bf16": 2 * e, "int8": e + 4}[kv]
    return 2 * heads * one * c["num_hidden_layers"]


def divides(c, s):
    """Whether a model can be spread over s devices."""
    h, k = c["num_attention_heads"], c["num_key_value_heads"]
    return h % s == 0 and (k % s == 0 or s % k == 0) and c["intermediate_size"] % s == 0


expected = {}
for name, path in CONFIGS.items():
    c = json.loads(path.read_text())
    expected[name] = [
        {
            "split": s,
            "weights": {
                f"{precision}/{group}" if group else precision: weights(c, precision, group, s)
                for precision, group in [("f32", 0), ("bf16", 0), ("int8", 32), ("int8", 128), ("int4", 32), ("int4", 128)]
            },
            "token": {kv: token(c, kv, s) for kv in ("f32", "bf16", "int8")},
        }
        for s in range(1, 17)
        if divides(c, s)
    ]
print(json.dumps(expected, indent=1))
