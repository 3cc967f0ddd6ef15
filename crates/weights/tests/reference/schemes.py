"""Makes schemes.json: matrices stored in each published scheme, part by part, and the values that they stand for.

Independent of the Rust code: random small numbers are packed with NumPy as the schemes' descriptions say, and the values are
computed from the numbers before they were packed. Run it as `python3 schemes.py > schemes.json`.
"""

import json

import numpy as np

F = np.float32
rng = np.random.default_rng(5)
OUTPUTS, INPUTS = 32, 96


def pack(numbers, bits, order=None):
    """Packs the last axis into 32-bit words, the first number in the lowest bits, or in the given order."""
    each = 32 // bits
    parts = numbers.reshape(*numbers.shape[:-1], -1, each).astype(np.uint64)
    if order is not None:
        parts = parts[..., order]
    return np.bitwise_or.reduce(parts << (bits * np.arange(each, dtype=np.uint64)), axis=-1).astype(np.uint32)


def entry(dtype, array):
    return {"dtype": dtype, "shape": list(array.shape), "bytes": np.ascontiguousarray(array).tobytes().hex()}


def scales(*shape):
    return rng.uniform(0.001, 0.02, shape).astype(np.float16)


def activation_aware(group):
    groups = INPUTS // group
    numbers, zeros = rng.integers(0, 16, (INPUTS, OUTPUTS)), rng.integers(0, 16, (groups, OUTPUTS))
    scale = scales(groups, OUTPUTS)
    rows = np.arange(INPUTS) // group
    values = (numbers - zeros[rows]).astype(F) * scale[rows].astype(F)
    order = [0, 2, 4, 6, 1, 3, 5, 7]
    tensors = {
        "qweight": entry("I32", pack(numbers, 4, order)),
        "qzeros": entry("I32", pack(zeros, 4, order)),
        "scales": entry("F16", scale),
    }
    config = {"quant_method": "awq", "bits": 4, "group_size": group, "zero_point": True, "version": "gemm"}
    return config, tensors, values.T


def error_compensating(bits, group, acting, version):
    groups = 1 if group == -1 else INPUTS // group
    offset = 1 if version == "gptq" else 0
    numbers = rng.integers(0, 2**bits, (INPUTS, OUTPUTS))
    zeros = rng.integers(0, 2**bits, (groups, OUTPUTS))
    scale = scales(groups, OUTPUTS)
    rows = np.zeros(INPUTS, int) if group == -1 else np.arange(INPUTS) // group
    if acting:
        rows = rng.permutation(rows)
    values = (numbers - (zeros + offset)[rows]).astype(F) * scale[rows].astype(F)
    tensors = {
        "qweight": entry("I32", np.ascontiguousarray(pack(numbers.T, bits).T)),
        "qzeros": entry("I32", pack(zeros, bits)),
        "scales": entry("F16", scale),
        "g_idx": entry("I32", rows.astype(np.int32)),
    }
    config = {"quant_method": "gptq", "bits": bits, "group_size": group, "desc_act": acting, "checkpoint_format": version}
    return config, tensors, values.T


def float8():
    """The 256 values, by the definition: sign, four bits of exponent with bias 7, three of fraction, no infinities."""
    table = []
    for byte in range(256):
        sign, exponent, fraction = (-1) ** (byte >> 7), byte >> 3 & 15, byte & 7
        size = fraction / 8 * 2.0**-6 if exponent == 0 else (1 + fraction / 8) * 2.0 ** (exponent - 7)
        table.append(sign * size)
    return np.array(table, F)


def scaled(kind, shape, name, config, block=None):
    if kind == "F8_E4M3":
        raw = rng.integers(0, 256, (OUTPUTS, INPUTS)).astype(np.uint8)
        raw[(raw & 127) == 127] = 3
        numbers = float8()[raw]
    else:
        raw = rng.integers(-128, 128, (OUTPUTS, INPUTS)).astype(np.int8)
        numbers = raw.astype(F)
    scale = rng.uniform(0.001, 0.02, shape).astype(F)
    spread = scale.reshape(-1, 1) if block is None else np.kron(scale, np.ones(block, F))[:OUTPUTS, :INPUTS]
    return config, {"weight": entry(kind, raw), name: entry("F32", scale)}, numbers * spread


def cases():
    yield "activation-aware, groups of 32", activation_aware(32)
    yield "activation-aware, groups of 96", activation_aware(96)
    yield "error-compensating, 4 bits", error_compensating(4, 32, False, "gptq")
    yield "error-compensating, 4 bits, inputs in another order", error_compensating(4, 32, True, "gptq")
    yield "error-compensating, 4 bits, one group", error_compensating(4, -1, False, "gptq")
    yield "error-compensating, 8 bits", error_compensating(8, 48, True, "gptq")
    yield "error-compensating, 2 bits, zero points as they are", error_compensating(2, 32, False, "gptq_v2")
    fp8 = {"quant_method": "fp8", "activation_scheme": "dynamic"}
    yield "fp8, one scale", scaled("F8_E4M3", (1,), "weight_scale", fp8)
    yield "fp8, a scale for each output", scaled("F8_E4M3", (OUTPUTS, 1), "weight_scale", {"quant_method": "fbgemm_fp8"})
    blocks = fp8 | {"weight_block_size": [20, 40]}
    yield "fp8, a scale for each block", scaled("F8_E4M3", (2, 3), "weight_scale_inv", blocks, (20, 40))
    int8 = {"quant_method": "compressed-tensors", "format": "int-quantized", "config_groups": {}}
    yield "int8, one scale", scaled("I8", (1,), "weight_scale", int8)
    yield "int8, a scale for each output", scaled("I8", (OUTPUTS, 1), "weight_scale", int8)


def main():
    print("[")
    lines = []
    for name, (config, tensors, values) in cases():
        bits = np.ascontiguousarray(values.astype(F)).view(np.uint32).ravel().tolist()
        lines.append(json.dumps({"name": name, "config": config, "tensors": tensors, "bits": bits}))
    print(",\n".join(lines))
    print("]")


if __name__ == "__main__":
    main()
