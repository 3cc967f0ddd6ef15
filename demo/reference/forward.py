"""An independent forward pass: the definition of the architecture in NumPy, in 64-bit floats, without any cache.

    python forward.py            writes ./fixtures/*.json, which the Rust tests compare the engine with
    python forward.py wide odd   writes only these

It shares no code with the engine or the training script. Two of its models have generated weights: `value` below is the
whole recipe, and `crates/specimen` follows the same one.
"""

import json
import math
import pathlib
import sys

import numpy as np

HERE = pathlib.Path(__file__).resolve().parent
DEMO = HERE.parent / "models" / "pierdesk-1"
PROMPTS, NEW_TOKENS = 10, 32

SMALL = {
    "vocab_size": 300, "hidden_size": 64, "intermediate_size": 96, "num_attention_heads": 4, "num_key_value_heads": 2,
    "rms_norm_eps": 1e-6, "max_position_embeddings": 256, "eos_token_id": 299,
}
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
    "windowed": {
        "architectures": ["MistralForCausalLM"], "num_hidden_layers": 2, "head_dim": 16, "rope_theta": 10000.0,
        "tie_word_embeddings": False, "hidden_act": "silu", "sliding_window": 11, **SMALL,
    },
    "later": {
        "architectures": ["Qwen2ForCausalLM"], "num_hidden_layers": 3, "head_dim": 16, "rope_theta": 1000000.0,
        "tie_word_embeddings": True, "hidden_act": "silu", "use_sliding_window": True, "sliding_window": 7,
        "max_window_layers": 1, **SMALL,
    },
    "capped": {
        "architectures": ["Gemma2ForCausalLM"], "num_hidden_layers": 3, "head_dim": 24, "rope_theta": 10000.0,
        "hidden_activation": "gelu_pytorch_tanh", "attn_logit_softcapping": 3.0, "final_logit_softcapping": 5.0,
        "query_pre_attn_scalar": 20, "sliding_window": 9, **SMALL,
    },
    "patterned": {
        "architectures": ["Gemma3ForCausalLM"], "num_hidden_layers": 7, "head_dim": 24, "rope_theta": 1000000.0,
        "rope_local_base_freq": 10000.0, "hidden_activation": "gelu_pytorch_tanh", "query_pre_attn_scalar": 30,
        "sliding_window": 9, "sliding_window_pattern": 3, "rope_scaling": {"rope_type": "linear", "factor": 4.0}, **SMALL,
    },
    "fused": {
        "architectures": ["Phi3ForCausalLM"], "num_hidden_layers": 2, "head_dim": 16, "rope_theta": 10000.0,
        "tie_word_embeddings": False, "hidden_act": "silu", "sliding_window": 40, "original_max_position_embeddings": 64,
        "rope_scaling": {
            "type": "longrope", "short_factor": [1.0, 1.0, 1.05, 1.1, 1.2, 1.3, 1.5, 1.6],
            "long_factor": [1.0, 1.1, 1.3, 1.7, 2.2, 3.0, 4.5, 8.0],
        }, **SMALL,
    },
    "multiplied": {
        "architectures": ["GraniteForCausalLM"], "num_hidden_layers": 2, "head_dim": 16, "rope_theta": 10000.0,
        "tie_word_embeddings": True, "hidden_act": "silu", "embedding_multiplier": 6.0, "residual_multiplier": 0.4,
        "attention_multiplier": 0.11, "logits_scaling": 3.0, **SMALL,
    },
    "experts": {
        "architectures": ["MixtralForCausalLM"], "num_hidden_layers": 2, "head_dim": 16, "rope_theta": 1000000.0,
        "tie_word_embeddings": False, "hidden_act": "silu", "num_local_experts": 6, "num_experts_per_tok": 2, **SMALL,
    },
    "sparse": {
        "architectures": ["Qwen3MoeForCausalLM"], "num_hidden_layers": 3, "head_dim": 16, "rope_theta": 1000000.0,
        "tie_word_embeddings": False, "hidden_act": "silu", "num_experts": 8, "num_experts_per_tok": 3,
        "moe_intermediate_size": 40, "norm_topk_prob": False, "mlp_only_layers": [1], **SMALL,
    },
}


def is_gemma(config):
    return config["architectures"][0].startswith("Gemma")


def window_of(config, layer):
    """Returns how many tokens a layer sees, or None where it sees all."""
    family, window = config["architectures"][0], config.get("sliding_window")
    if window is None or family in ("LlamaForCausalLM", "GraniteForCausalLM"):
        return None
    if family.startswith("Qwen"):
        return window if config.get("use_sliding_window") and layer >= config["max_window_layers"] else None
    if family == "Gemma2ForCausalLM":
        return window if layer % 2 == 0 else None
    if family == "Gemma3ForCausalLM":
        return window if (layer + 1) % config["sliding_window_pattern"] else None
    return window


def expert_part(config, layer):
    """Returns the name of a layer's part with experts, the names of their matrices, their number and width, or None."""
    family = config["architectures"][0]
    if family == "MixtralForCausalLM":
        return "block_sparse_moe", ("w1", "w3", "w2"), config["num_local_experts"], config["intermediate_size"]
    if family == "Qwen3MoeForCausalLM" and layer not in config["mlp_only_layers"]:
        return "mlp", ("gate_proj", "up_proj", "down_proj"), config["num_experts"], config["moe_intermediate_size"]
    return None


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
        if is_gemma(config):
            shapes[at + "pre_feedforward_layernorm.weight"] = shapes[at + "post_feedforward_layernorm.weight"] = (d,)
        if family == "Phi3ForCausalLM":
            shapes[at + "self_attn.qkv_proj.weight"] = (q + 2 * kv, d)
            shapes[at + "self_attn.o_proj.weight"] = (d, q)
            shapes[at + "mlp.gate_up_proj.weight"] = (2 * f, d)
            shapes[at + "mlp.down_proj.weight"] = (d, f)
            continue
        for name, rows, columns in (("q", q, d), ("k", kv, d), ("v", kv, d), ("o", d, q)):
            shapes[at + f"self_attn.{name}_proj.weight"] = (rows, columns)
            if name in biased:
                shapes[at + f"self_attn.{name}_proj.bias"] = (rows,)
        if family in ("Qwen3ForCausalLM", "Qwen3MoeForCausalLM", "Gemma3ForCausalLM"):
            shapes[at + "self_attn.q_norm.weight"] = shapes[at + "self_attn.k_norm.weight"] = (config["head_dim"],)
        sparse = expert_part(config, i)
        if sparse:
            part, names, count, width = sparse
            shapes[at + part + ".gate.weight"] = (count, d)
            for expert in range(count):
                for name, shape in zip(names, ((width, d), (width, d), (d, width))):
                    shapes[at + f"{part}.experts.{expert}.{name}.weight"] = shape
            continue
        for name, rows, columns in (("gate", f, d), ("up", f, d), ("down", d, f)):
            shapes[at + f"mlp.{name}_proj.weight"] = (rows, columns)
            if config.get("mlp_bias"):
                shapes[at + f"mlp.{name}_proj.bias"] = (rows,)
    if not tied(config):
        shapes["lm_head.weight"] = (config["vocab_size"], d)
    return shapes


def tied(config):
    return config.get("tie_word_embeddings", is_gemma(config))


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


def inverse_frequencies(config, windowed):
    """Returns the inverse frequencies and the factor on sines and cosines, for layers with or without a window."""
    size, theta = config["head_dim"], config["rope_theta"]
    if windowed and "rope_local_base_freq" in config:
        return np.array([config["rope_local_base_freq"] ** (-2 * i / size) for i in range(size // 2)]), 1.0
    plain = [theta ** (-2 * i / size) for i in range(size // 2)]
    scaling = config.get("rope_scaling")
    if not scaling:
        return np.array(plain), 1.0
    if scaling.get("rope_type") == "linear":
        return np.array(plain) / scaling["factor"], 1.0
    if scaling.get("type") == "longrope":
        context, trained = config["max_position_embeddings"], config["original_max_position_embeddings"]
        divisors = scaling["long_factor"] if context > trained else scaling["short_factor"]
        return np.array(plain) / np.array(divisors), math.sqrt(1 + math.log(context / trained) / math.log(trained))
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


def softmax(x):
    x = np.exp(x - x.max(-1, keepdims=True))
    return x / x.sum(-1, keepdims=True)


def capped(x, cap):
    return cap * np.tanh(x / cap) if cap else x


def gate(config, x):
    if is_gemma(config):
        return 0.5 * x * (1 + np.tanh(math.sqrt(2 / math.pi) * (x + 0.044715 * x**3)))
    return x / (1 + np.exp(-x))


def expert_mlp(config, sparse, h, at, get):
    """Sends each token to the experts with the highest scores."""
    part, (one, two, back), _, _ = sparse
    out = np.zeros_like(h)
    for token, row in enumerate(h):
        scores = softmax(get(at + part + ".gate.weight") @ row)
        used = np.argsort(-scores, kind="stable")[: config["num_experts_per_tok"]]
        shares = scores[used]
        if config["architectures"][0] == "MixtralForCausalLM" or config["norm_topk_prob"]:
            shares = shares / shares.sum()
        for expert, share in zip(used, shares):
            name = at + f"{part}.experts.{expert}."
            inner = gate(config, get(name + one + ".weight") @ row) * (get(name + two + ".weight") @ row)
            out[token] += share * (get(name + back + ".weight") @ inner)
    return out


def logits(config, tensors, ids):
    """Returns the logits after the last of the ids."""
    kept = {}

    def get(name):
        if name not in kept:
            whole = config["architectures"][0].startswith("Gemma") and name.endswith("norm.weight")
            kept[name] = tensors[name].astype(np.float64) + (1 if whole else 0)
        return kept[name]

    heads, groups, size = config["num_attention_heads"], config["num_key_value_heads"], config["head_dim"]
    norm = lambda x, w: x / np.sqrt((x * x).mean(-1, keepdims=True) + config["rms_norm_eps"]) * w
    count = len(ids)
    tables = {}
    for windowed in (False, True):
        frequencies, scale = inverse_frequencies(config, windowed)
        angles = np.arange(count)[:, None] * frequencies
        tables[windowed] = np.cos(angles)[:, None] * scale, np.sin(angles)[:, None] * scale
    x = tensors["model.embed_tokens.weight"][ids].astype(np.float64)
    x = x * (math.sqrt(config["hidden_size"]) if is_gemma(config) else config.get("embedding_multiplier", 1))
    residual = config.get("residual_multiplier", 1)
    factor = config.get("attention_multiplier", 1 / math.sqrt(config.get("query_pre_attn_scalar", size)))
    mlp_norm = "pre_feedforward_layernorm" if is_gemma(config) else "post_attention_layernorm"
    after = lambda out, name: norm(out, get(name)) if is_gemma(config) else out

    def linear(h, name):
        out = h @ get(name + ".weight").T
        return out + get(name + ".bias") if name + ".bias" in tensors else out

    for i in range(config["num_hidden_layers"]):
        at = f"model.layers.{i}."
        window = window_of(config, i)
        cos, sin = tables[window is not None]
        h = norm(x, get(at + "input_layernorm.weight"))
        if at + "self_attn.qkv_proj.weight" in tensors:
            q, k, v = np.split(linear(h, at + "self_attn.qkv_proj"), [heads * size, (heads + groups) * size], -1)
        else:
            q, k, v = (linear(h, at + f"self_attn.{part}_proj") for part in "qkv")
        q, k, v = (part.reshape(count, -1, size) for part in (q, k, v))
        if at + "self_attn.q_norm.weight" in tensors:
            q, k = norm(q, get(at + "self_attn.q_norm.weight")), norm(k, get(at + "self_attn.k_norm.weight"))
        q, k = rotate(q, cos, sin), rotate(k, cos, sin)
        k, v = np.repeat(k, heads // groups, 1), np.repeat(v, heads // groups, 1)
        scores = capped(np.einsum("qhd,khd->hqk", q, k) * factor, config.get("attn_logit_softcapping"))
        distance = np.arange(count)[:, None] - np.arange(count)
        scores[:, distance < 0] = -np.inf
        if window:
            scores[:, distance >= window] = -np.inf
        mixed = np.einsum("hqk,khd->qhd", softmax(scores), v).reshape(count, heads * size)
        x = x + residual * after(linear(mixed, at + "self_attn.o_proj"), at + "post_attention_layernorm.weight")
        h = norm(x, get(at + mlp_norm + ".weight"))
        sparse = expert_part(config, i)
        if sparse:
            out = expert_mlp(config, sparse, h, at, get)
        else:
            if at + "mlp.gate_up_proj.weight" in tensors:
                one, two = np.split(linear(h, at + "mlp.gate_up_proj"), 2, -1)
            else:
                one, two = linear(h, at + "mlp.gate_proj"), linear(h, at + "mlp.up_proj")
            out = linear(gate(config, one) * two, at + "mlp.down_proj")
        x = x + residual * after(out, at + "post_feedforward_layernorm.weight")
    last = norm(x[-1], get("model.norm.weight"))
    head = "model.embed_tokens.weight" if tied(config) else "lm_head.weight"
    return capped(tensors[head].astype(np.float64) @ last / config.get("logits_scaling", 1), config.get("final_logit_softcapping"))


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
    jobs = {} if sys.argv[1:] else {"pierdesk-1": (*read_folder(DEMO), demo_prompts(), 4)}
    for name, config in SHAPES.items():
        if sys.argv[1:] and name not in sys.argv[1:]:
            continue
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
