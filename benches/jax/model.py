"""The same model in JAX, in 32-bit floats: jitted, with static shapes and a donated cache.

Reads the model's sizes as JSON from the first line of its input. Then each line is `prefill TOKENS`, `decode SEQUENCES`
or `matmul`; each is answered with the seconds it took, or with floating-point operations per second for `matmul`.

Layers have their own arrays and are unrolled: sliced out of one array, in a scan, weights and cache would be copied. Keys are
cached by dimension and values by position, which is what batched products read fastest.
"""

import json
import sys
import time
from functools import partial

import jax
import jax.numpy as jnp
from jax import lax

CACHED = 512
LENGTH = CACHED + 64


def rms_norm(x, epsilon):
    return x * lax.rsqrt(jnp.mean(x * x, axis=-1, keepdims=True) + epsilon)


def rotate(x, positions):
    """x: [rows, heads, head_dim], positions: [rows]."""
    half = x.shape[-1] // 2
    angles = positions[:, None, None] * 10_000.0 ** (-jnp.arange(half) / half)
    cos, sin = jnp.cos(angles), jnp.sin(angles)
    a, b = x[..., :half], x[..., half:]
    return jnp.concatenate([a * cos - b * sin, b * cos + a * sin], axis=-1)


def weights(sizes):
    width, mlp = sizes["width"], sizes["mlp_width"]
    q, kv = sizes["heads"] * sizes["head_dim"], sizes["kv_heads"] * sizes["head_dim"]
    keys = iter(jax.random.split(jax.random.key(0), 4 * sizes["layers"] + 1))
    matrix = lambda *shape: jax.random.normal(next(keys), shape, jnp.float32) * 0.02
    layer = lambda: {
        "qkv": matrix(width, q + 2 * kv),
        "output": matrix(q, width),
        "gate_up": matrix(width, 2 * mlp),
        "down": matrix(mlp, width),
    }
    return {"embedding": matrix(sizes["vocabulary"], width), "layers": [layer() for _ in range(sizes["layers"])]}


def block(sizes, x, layer, positions, attend):
    heads, kv_heads, head_dim = sizes["heads"], sizes["kv_heads"], sizes["head_dim"]
    q_width, kv_width = heads * head_dim, kv_heads * head_dim
    qkv = rms_norm(x, 1e-5) @ layer["qkv"]
    q = rotate(qkv[:, :q_width].reshape(-1, heads, head_dim), positions)
    k = rotate(qkv[:, q_width : q_width + kv_width].reshape(-1, kv_heads, head_dim), positions)
    v = qkv[:, q_width + kv_width :].reshape(-1, kv_heads, head_dim)
    mixed, kept = attend(q.reshape(-1, kv_heads, heads // kv_heads, head_dim), k, v)
    x = x + mixed.reshape(-1, q_width) @ layer["output"]
    gate, up = jnp.split(rms_norm(x, 1e-5) @ layer["gate_up"], 2, axis=-1)
    return x + (jax.nn.silu(gate) * up) @ layer["down"], kept


def choose(params, x):
    return jnp.argmax(rms_norm(x, 1e-5) @ params["embedding"].T, axis=-1)


def prefill(sizes, params, tokens):
    positions = jnp.arange(tokens.shape[0])
    mask = positions[:, None] >= positions[None, :]

    def attend(q, k, v):
        scores = jnp.einsum("tkgd,skd->kgts", q, k) * sizes["head_dim"] ** -0.5
        shares = jax.nn.softmax(jnp.where(mask, scores, -jnp.inf), axis=-1)
        return jnp.einsum("kgts,skd->tkgd", shares, v), (k, v)

    x, cache = params["embedding"][tokens], []
    for layer in params["layers"]:
        x, kept = block(sizes, x, layer, positions, attend)
        cache.append(kept)
    return choose(params, x[-1:]), cache


def decode(sizes, params, cache, tokens, position):
    positions = jnp.full((tokens.shape[0],), position)
    seen = jnp.arange(LENGTH) <= position

    def attend_to(keys, values):
        """keys: [rows, kv_heads, head_dim, LENGTH], values: [rows, kv_heads, LENGTH, head_dim]"""

        def attend(q, k, v):
            kept_k = lax.dynamic_update_slice(keys, k[..., None], (0, 0, 0, position))
            kept_v = lax.dynamic_update_slice(values, v[:, :, None], (0, 0, position, 0))
            scores = jnp.matmul(q, kept_k) * sizes["head_dim"] ** -0.5
            shares = jax.nn.softmax(jnp.where(seen, scores, -jnp.inf), axis=-1)
            return jnp.matmul(shares, kept_v), (kept_k, kept_v)

        return attend

    x, kept = params["embedding"][tokens], []
    for layer, (keys, values) in zip(params["layers"], cache):
        x, pair = block(sizes, x, layer, positions, attend_to(keys, values))
        kept.append(pair)
    return choose(params, x), kept


def main():
    sizes = json.loads(sys.stdin.readline())
    params = weights(sizes)
    read = jax.jit(partial(prefill, sizes))
    write = jax.jit(partial(decode, sizes), donate_argnums=1)
    multiply = jax.jit(jnp.matmul)
    kept_rows, cache = 0, None
    for line in sys.stdin:
        kind, *rest = line.split()
        count = int(rest[0]) if rest else 0
        if kind == "decode":
            if kept_rows != count:
                heads, head_dim = sizes["kv_heads"], sizes["head_dim"]
                fill = lambda key, *shape: jax.random.normal(jax.random.key(key), shape, jnp.float32)
                keys = lambda layer: fill(2 * layer, count, heads, head_dim, LENGTH)
                values = lambda layer: fill(2 * layer + 1, count, heads, LENGTH, head_dim)
                kept_rows, cache = count, [(keys(layer), values(layer)) for layer in range(sizes["layers"])]
            begun = time.perf_counter()
            chosen, cache = write(params, cache, jnp.arange(count), CACHED)
            chosen.block_until_ready()
            result = time.perf_counter() - begun
        elif kind == "prefill":
            tokens = jnp.arange(count) % sizes["vocabulary"]
            begun = time.perf_counter()
            chosen, _ = read(params, tokens)
            chosen.block_until_ready()
            result = time.perf_counter() - begun
        else:
            a, b = jnp.ones((512, 2048)), jnp.ones((2048, 5632))
            multiply(a, b).block_until_ready()
            begun = time.perf_counter()
            multiply(a, b).block_until_ready()
            result = 2 * 512 * 2048 * 5632 / (time.perf_counter() - begun)
        print(result, flush=True)


main()
