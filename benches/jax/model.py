"""The same model in JAX, in 32-bit floats: jitted, with static shapes and a donated cache.

Reads the model's sizes as JSON from the first line of its input. Then each line is `prefill TOKENS`, `decode SEQUENCES`
or `matmul`; each is answered with the seconds it took, or with floating-point operations per second for `matmul`.
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
    width, mlp, layers = sizes["width"], sizes["mlp_width"], sizes["layers"]
    q, kv = sizes["heads"] * sizes["head_dim"], sizes["kv_heads"] * sizes["head_dim"]
    keys = iter(jax.random.split(jax.random.key(0), 8))
    matrix = lambda *shape: jax.random.normal(next(keys), shape, jnp.float32) * 0.02
    return {
        "embedding": matrix(sizes["vocabulary"], width),
        "qkv": matrix(layers, width, q + 2 * kv),
        "output": matrix(layers, q, width),
        "gate_up": matrix(layers, width, 2 * mlp),
        "down": matrix(layers, mlp, width),
    }


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


def layers_of(params):
    return {name: params[name] for name in ("qkv", "output", "gate_up", "down")}


def prefill(sizes, params, tokens):
    count = tokens.shape[0]
    positions = jnp.arange(count)
    mask = positions[:, None] >= positions[None, :]

    def attend(q, k, v):
        scores = jnp.einsum("tkgd,skd->kgts", q, k) * sizes["head_dim"] ** -0.5
        shares = jax.nn.softmax(jnp.where(mask, scores, -jnp.inf), axis=-1)
        return jnp.einsum("kgts,skd->tkgd", shares, v), (k, v)

    step = lambda x, layer: block(sizes, x, layer, positions, attend)
    x, cache = lax.scan(step, params["embedding"][tokens], layers_of(params))
    return jnp.argmax(rms_norm(x[-1:], 1e-5) @ params["embedding"].T), cache


def decode(sizes, params, cache, tokens, position):
    rows = tokens.shape[0]
    positions = jnp.full((rows,), position)
    seen = jnp.arange(LENGTH) <= position

    def step(x, scanned):
        layer, keys, values = scanned

        def attend(q, k, v):
            kept_k = lax.dynamic_update_slice(keys, k[:, None], (0, position, 0, 0))
            kept_v = lax.dynamic_update_slice(values, v[:, None], (0, position, 0, 0))
            scores = jnp.einsum("bkgd,bskd->bkgs", q, kept_k) * sizes["head_dim"] ** -0.5
            shares = jax.nn.softmax(jnp.where(seen, scores, -jnp.inf), axis=-1)
            return jnp.einsum("bkgs,bskd->bkgd", shares, kept_v), (kept_k, kept_v)

        return block(sizes, x, layer, positions, attend)

    x, cache = lax.scan(step, params["embedding"][tokens], (layers_of(params), *cache))
    return jnp.argmax(rms_norm(x, 1e-5) @ params["embedding"].T, axis=-1), cache


def main():
    sizes = json.loads(sys.stdin.readline())
    params = weights(sizes)
    read = jax.jit(partial(prefill, sizes))
    write = jax.jit(partial(decode, sizes), donate_argnums=1)
    multiply = jax.jit(jnp.matmul)
    shape = lambda rows: (sizes["layers"], rows, LENGTH, sizes["kv_heads"], sizes["head_dim"])
    kept_rows, cache = 0, None
    for line in sys.stdin:
        kind, *rest = line.split()
        count = int(rest[0]) if rest else 0
        if kind == "decode":
            if kept_rows != count:
                fill = lambda key: jax.random.normal(jax.random.key(key), shape(count), jnp.float32)
                kept_rows, cache = count, (fill(1), fill(2))
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
