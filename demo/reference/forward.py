"""An independent forward pass: the definition of the architecture in NumPy, in 64-bit floats, without any cache.

    python forward.py            writes ./fixtures/*.json, which the Rust tests compare the engine with

It shares no code with the engine or the training script. Two of its models have generated weights: `value` below is the
whole recipe, and `crates/specimen` follows the same one.
"""

import json
import math
import pathlib

import numpy as np

HERE = pathlib.Path(__file__).resolve().parent
DEMO = HERE.parent / "models" / "pierdesk-1"
PROMPTS, NEW_TOKENS = 10, 32

SHAPES = {
    "wide": {
        "architectures": ["LlamaForCausalLM"], "vocab_size": 49152, "hidden_size": 64, "intermediate_size": 160,
        "num_hidden_layers": 3, "num_attention_heads": 4, "num_key_value_heads": 2, "head_dim": 24, "rms_norm_eps": 1e-5,
        "max_position_embeddings": 512, "rope_theta": 500000.0, "tie_word_embeddings": False, "attention_bias": True,
        "mlp_bias": True, "hidden_act": "silu", "eos_token_id": 49151,
        "rope_scaling": {
            "rope_type": "llama3", "factor": 8.0, "low_freq_factor": 1.0, "high_freq_factor": 4.0,
            "original_max_position_embeddings": 64,
        },
    },
    "odd": {
        "architectures": ["LlamaForCausalLM"], "vocab_size": 320, "hidden_size": 80, "intermediate_size": 112,
        "num_hidden_layers": 2, "num_attention_heads": 5, "num_key_value_heads": 1, "head_dim": 20, "rms_norm_eps": 1e-6,
        "max_position_embeddings": 256, "rope_theta": 10000.0, "tie_word_embeddings": True, "attention_bias": False,
        "mlp_bias": False, "hidden_act": "silu", "eos_token_id": 319,
        "rope_scaling": {"rope_type": "yarn", "factor": 4.0, "original_max_position_embeddings": 64},
    },
    "biased": {
        "architectures": ["Qwen2ForCausalLM"], "vocab_size": 300, "hidden_size": 64, "intermediate_size": 96,
        "num_hidden_layers": 2, "num_attention_heads": 4, "num_key_value_heads": 2, "head_dim": 16, "rms_norm_eps": 1e-6,
        "max_position_embeddings": 256, "rope_theta": 1000000.0, "tie_word_embeddings": True, "hidden_act": "silu",
        "use_sliding_window": False, "sliding_window": 32, "max_window_layers": 1, "eos_token_id": 299,
    },
    "normed": {
        "architectures": ["Qwen3ForCausalLM"], "vocab_size": 300, "hidden_size": 64, "intermediate_size": 96,
        "num_hidden_layers": 2, "num_attention_heads": 4, "num_key_value_heads": 2, "head_dim": 24, "rms_norm_eps": 1e-6,
        "max_position_embeddings": 256, "rope_theta": 1000000.0, "tie_word_embeddings": False, "hidden_act": "silu",
        "attention_bias": False, "eos_token_id": 299,
    },
}


def tensor_shapes(config):
    d, f = config["hidden_size"], config["intermediate_size"]
    q = config["num_attention_heads"] * config["head_dim"]
    kv = config["num_key_value_heads"] * config["head_dim"]
    shapes = {"model.embed_tokens.weight": (config["vocab_size"], d), "model.norm.weight": (d,)}
    family = config["architectures"][0]
    biased = {"q", "k", "v", "o"} if config.get("attention_bias") else set()
    if family == "Qwen2ForCausalLM":
        biased = {"q", "k", "v"}
    for i in range(config["num_hidden_layers"]):
        at = f"model.layers.{i}."
        shapes[at + "input_layernorm.weight"] = shapes[at + "post_attention_layernorm.weight"] = (d,)
        for name, rows, columns in (("q", q, d), ("k", kv, d), ("v", kv, d), ("o", d, q)):
            shapes[at + f"self_attn.{name}_proj.weight"] = (rows, columns)
            if name in biased:
                shapes[at + f"self_attn.{name}_proj.bias"] = (rows,)
        if family == "Qwen3ForCausalLM":
            shapes[at + "self_attn.q_norm.weight"] = shapes[at + "self_attn.k_norm.weight"] = (config["head_dim"],)
        for name, rows, columns in (("gate", f, d), ("up", f, d), ("down", d, f)):
            shapes[at + f"mlp.{name}_proj.weight"] = (rows, columns)
            if config.get("mlp_bias"):
                shapes[at + f"mlp.{name}_proj.bias"] = (rows,)
    if not config["tie_word_embeddings"]:
        shapes["lm_head.weight"] = (config["vocab_size"], d)
    return shapes


def value(name, shape):
    """Returns a generated tensor: splitmix64 over the element's number, started by the FNV-1a hash of the name."""
    start = 0xCBF29CE484222325
    for byte in name.encode():
        start = (start ^ byte) * 0x100000001B3 % 2**64
    with np.errstate(over="ignore"):
        z = np.uint64(start) + (np.arange(math.prod(shape), dtype=np.uint64) + np.uint64(1)) * np.uint64(0x9E3779B97F4A7C15)
        z = (z ^ (z >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
        z = (z ^ (z >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
        z = z ^ (z >> np.uint64(31))
    unit = ((z >> np.uint64(40)).astype(np.float32) / np.float32(2**23) - np.float32(1)).reshape(shape)
    if name.endswith("norm.weight"):
        return np.float32(1) + unit * np.float32(0.125)
    if name.endswith(".bias"):
        return unit * np.float32(0.5)
    if name.startswith("model.embed_tokens"):
        return unit * np.float32(0.25)
    return unit * np.float32(math.sqrt(3.0 / shape[1]))


def read_folder(folder):
    """Returns the config and the tensors of a folder of bf16 or f32 safetensors."""
    config = json.loads((folder / "config.json").read_text("utf-8"))
    tensors = {}
    for path in sorted(folder.glob("*.safetensors")):
        data = path.read_bytes()
        size = int.from_bytes(data[:8], "little")
        for name, entry in json.loads(data[8:8 + size]).items():
            if name == "__metadata__":
                continue
            raw = data[8 + size + entry["data_offsets"][0]:8 + size + entry["data_offsets"][1]]
            if entry["dtype"] == "BF16":
                values = (np.frombuffer(raw, np.uint16).astype(np.uint32) << 16).view(np.float32)
            else:
                values = np.frombuffer(raw, np.float32)
            tensors[name] = values.reshape(entry["shape"])
    return config, tensors


def inverse_frequencies(config):
    """Returns the inverse frequencies and the factor on sines and cosines."""
    size, theta = config["head_dim"], config["rope_theta"]
    plain = [theta ** (-2 * i / size) for i in range(size // 2)]
    scaling = config.get("rope_scaling")
    if not scaling:
        return np.array(plain), 1.0
    factor, trained = scaling["factor"], scaling["original_max_position_embeddings"]
    if scaling["rope_type"] == "llama3":
        low, high = trained / scaling["low_freq_factor"], trained / scaling["high_freq_factor"]
        out = []
        for f in plain:
            wave = 2 * math.pi / f
            if wave < high:
                out.append(f)
            elif wave > low:
                out.append(f / factor)
            else:
                smooth = (trained / wave - scaling["low_freq_factor"]) / (scaling["high_freq_factor"] - scaling["low_freq_factor"])
                out.append((1 - smooth) * f / factor + smooth * f)
        return np.array(out), 1.0
    assert scaling["rope_type"] == "yarn"
    find = lambda rotations: size * math.log(trained / (rotations * 2 * math.pi)) / (2 * math.log(theta))
    low, high = max(math.floor(find(32)), 0), min(math.ceil(find(1)), size - 1)
    ramp = np.clip((np.arange(size // 2) - low) / max(high - low, 0.001), 0, 1)
    plain = np.array(plain)
    return plain / factor * ramp + plain * (1 - ramp), 0.1 * math.log(factor) + 1


def rotate(x, cos, sin):
    half = x.shape[-1] // 2
    turned = np.concatenate([-x[..., half:], x[..., :half]], -1)
    return x * np.concatenate([cos, cos], -1) + turned * np.concatenate([sin, sin], -1)


def logits(config, tensors, ids):
    """Returns the logits after the last of the ids."""
    get = lambda name: tensors[name].astype(np.float64)
    heads, groups, size = config["num_attention_heads"], config["num_key_value_heads"], config["head_dim"]
    norm = lambda x, w: x / np.sqrt((x * x).mean(-1, keepdims=True) + config["rms_norm_eps"]) * w
    count = len(ids)
    frequencies, scale = inverse_frequencies(config)
    angles = np.arange(count)[:, None] * frequencies
    cos, sin = np.cos(angles)[:, None] * scale, np.sin(angles)[:, None] * scale
    x = tensors["model.embed_tokens.weight"][ids].astype(np.float64)

    def linear(h, name):
        out = h @ get(name + ".weight").T
        return out + get(name + ".bias") if name + ".bias" in tensors else out

    for i in range(config["num_hidden_layers"]):
        at = f"model.layers.{i}."
        h = norm(x, get(at + "input_layernorm.weight"))
        q = linear(h, at + "self_attn.q_proj").reshape(count, heads, size)
        k = linear(h, at + "self_attn.k_proj").reshape(count, groups, size)
        if at + "self_attn.q_norm.weight" in tensors:
            q, k = norm(q, get(at + "self_attn.q_norm.weight")), norm(k, get(at + "self_attn.k_norm.weight"))
        q, k = rotate(q, cos, sin), rotate(k, cos, sin)
        v = linear(h, at + "self_attn.v_proj").reshape(count, groups, size)
        k, v = np.repeat(k, heads // groups, 1), np.repeat(v, heads // groups, 1)
        scores = np.einsum("qhd,khd->hqk", q, k) / math.sqrt(size)
        scores[:, np.triu(np.ones((count, count), bool), 1)] = -np.inf
        share = np.exp(scores - scores.max(-1, keepdims=True))
        share /= share.sum(-1, keepdims=True)
        mixed = np.einsum("hqk,khd->qhd", share, v).reshape(count, heads * size)
        x = x + linear(mixed, at + "self_attn.o_proj")
        h = norm(x, get(at + "post_attention_layernorm.weight"))
        gate = linear(h, at + "mlp.gate_proj")
        x = x + linear(gate / (1 + np.exp(-gate)) * linear(h, at + "mlp.up_proj"), at + "mlp.down_proj")
    last = norm(x[-1], get("model.norm.weight"))
    head = "model.embed_tokens.weight" if config["tie_word_embeddings"] else "lm_head.weight"
    return get(head) @ last


def fixture(config, tensors, prompts, stride):
    """Returns each prompt with every `stride`-th logit after it and the tokens of greedy decoding, ends ignored."""
    items, closest = [], math.inf
    for prompt in prompts:
        ids, kept = list(prompt), None
        for _ in range(NEW_TOKENS):
            row = logits(config, tensors, ids)
            kept = row[::stride] if kept is None else kept
            top = np.sort(row)[-2:]
            closest = min(closest, top[1] - top[0])
            ids.append(int(row.argmax()))
        items.append({"prompt": list(prompt), "logits": [round(float(v), 5) for v in kept], "greedy": ids[len(prompt):]})
    print(f"  closest call between the first two tokens: {closest:.2e}")
    return {"config": config, "stride": stride, "items": items}


def random_prompts(vocabulary):
    rng = np.random.default_rng(11)
    return [rng.integers(0, vocabulary, length).tolist() for length in (1, 2, 3, 5, 8, 13, 16, 17, 33, 50)]


def demo_prompts():
    """The ids of ten held-out questions as the template writes them, encoded by the tokenizers package."""
    from tokenizers import Tokenizer

    tokenizer = Tokenizer.from_file(str(DEMO / "tokenizer.json"))
    lines = (HERE.parent / "held-out" / "questions.jsonl").read_text("utf-8").splitlines()
    questions = [json.loads(line)["messages"][0]["content"] for line in lines[:: len(lines) // PROMPTS][:PROMPTS]]
    return [tokenizer.encode(f"<hail><passenger>{q}<over><desk>", add_special_tokens=False).ids for q in questions]


def main():
    (HERE / "fixtures").mkdir(exist_ok=True)
    jobs = {"pierdesk-1": (*read_folder(DEMO), demo_prompts(), 4)}
    for name, config in SHAPES.items():
        tensors = {tensor: value(tensor, shape) for tensor, shape in tensor_shapes(config).items()}
        if name == "odd":
            # Stored as bf16: the value whose bits are the upper half, by truncation.
            tensors = {n: (t.view(np.uint32) & 0xFFFF0000).view(np.float32) for n, t in tensors.items()}
        jobs[name] = (config, tensors, random_prompts(config["vocab_size"]), 97 if name == "wide" else 1)
    for name, job in jobs.items():
        print(name)
        (HERE / "fixtures" / f"{name}.json").write_text(json.dumps(fixture(*job)) + "\n", "utf-8")


if __name__ == "__main__":
    main()
