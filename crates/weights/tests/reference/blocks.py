"""Makes blocks.json: random blocks of every type and the values that they stand for.

Independent of the Rust code, written from the layouts of the blocks: weights are taken apart bit by bit with NumPy, whole
blocks at a time, where the Rust code walks from group to group. Run it as `python3 blocks.py > blocks.json`.
"""

import json

import numpy as np

F = np.float32


def halves(raw, at):
    return raw[:, at : at + 2].copy().view(np.float16).astype(F)


def nibbles(packed):
    return np.concatenate([packed & 15, packed >> 4], axis=1)


def bits_of(packed, width):
    """All fields of `width` bits of a run of bytes: first the lowest of every byte, then the next."""
    mask = (1 << width) - 1
    return np.concatenate([(packed >> shift) & mask for shift in range(0, 8, width)], axis=1)


def q4(raw, offset, minimum):
    head = 4 if minimum else 2
    low = halves(raw, 2) if minimum else F(0)
    return (nibbles(raw[:, head:]).astype(F) - F(offset)) * halves(raw, 0) + low


def q5(raw, offset, minimum):
    head = 4 if minimum else 2
    low = halves(raw, 2) if minimum else F(0)
    fifth = np.unpackbits(raw[:, head : head + 4], axis=1, bitorder="little")
    whole = nibbles(raw[:, head + 4 :]) + 16 * fifth
    return (whole.astype(F) - F(offset)) * halves(raw, 0) + low


def q8_0(raw):
    return raw[:, 2:].view(np.int8).astype(F) * halves(raw, 0)


def q2_k(raw):
    scales, packed = raw[:, :16], raw[:, 16:80]
    whole = np.concatenate([bits_of(packed[:, :32], 2), bits_of(packed[:, 32:], 2)], axis=1).astype(F)
    step = np.repeat(halves(raw, 80) * (scales & 15).astype(F), 16, axis=1)
    floor = np.repeat(halves(raw, 82) * (scales >> 4).astype(F), 16, axis=1)
    return step * whole - floor


def q3_k(raw):
    third = bits_of(raw[:, :32], 1)
    packed = raw[:, 32:96]
    whole = np.concatenate([bits_of(packed[:, :32], 2), bits_of(packed[:, 32:], 2)], axis=1)
    scales = raw[:, 96:108]
    low = nibbles(scales[:, :8])
    high = bits_of(scales[:, 8:], 2)
    step = halves(raw, 108) * ((low | high << 4).astype(F) - F(32))
    return np.repeat(step, 16, axis=1) * ((whole | third << 2).astype(F) - F(4))


def six_bits(packed):
    """Eight scales and eight minima of six bits out of twelve bytes."""
    scales = np.concatenate([packed[:, :4] & 63, (packed[:, 8:] & 15) | (packed[:, :4] >> 6) << 4], axis=1)
    minima = np.concatenate([packed[:, 4:8] & 63, (packed[:, 8:] >> 4) | (packed[:, 4:8] >> 6) << 4], axis=1)
    return scales.astype(F), minima.astype(F)


def by_groups(raw, whole):
    scales, minima = six_bits(raw[:, 4:16])
    step = np.repeat(halves(raw, 0) * scales, 32, axis=1)
    floor = np.repeat(halves(raw, 2) * minima, 32, axis=1)
    return step * whole.astype(F) - floor


def q4_k(raw):
    return by_groups(raw, np.concatenate([nibbles(raw[:, at : at + 32]) for at in range(16, 144, 32)], axis=1))


def q5_k(raw):
    fifth = bits_of(raw[:, 16:48], 1)
    low = np.concatenate([nibbles(raw[:, at : at + 32]) for at in range(48, 176, 32)], axis=1)
    return by_groups(raw, low | fifth << 4)


def q6_k(raw):
    low = np.concatenate([nibbles(raw[:, :64]), nibbles(raw[:, 64:128])], axis=1)
    high = np.concatenate([bits_of(raw[:, 128:160], 2), bits_of(raw[:, 160:192], 2)], axis=1)
    step = halves(raw, 208) * raw[:, 192:208].view(np.int8).astype(F)
    return np.repeat(step, 16, axis=1) * ((low | high << 4).astype(F) - F(32))


# Name, bytes of a block, where half-precision numbers stand, values.
TYPES = [
    ("F32", 4, [], lambda raw: raw.copy().view(F)),
    ("F16", 2, [0], lambda raw: halves(raw, 0)),
    ("BF16", 2, [], lambda raw: (raw.copy().view(np.uint16).astype(np.uint32) << 16).view(F)),
    ("Q4_0", 18, [0], lambda raw: q4(raw, 8, False)),
    ("Q4_1", 20, [0, 2], lambda raw: q4(raw, 0, True)),
    ("Q5_0", 22, [0], lambda raw: q5(raw, 16, False)),
    ("Q5_1", 24, [0, 2], lambda raw: q5(raw, 0, True)),
    ("Q8_0", 34, [0], q8_0),
    ("Q2_K", 84, [80, 82], q2_k),
    ("Q3_K", 110, [108], q3_k),
    ("Q4_K", 144, [0, 2], q4_k),
    ("Q5_K", 176, [0, 2], q5_k),
    ("Q6_K", 210, [208], q6_k),
]


def main():
    random = np.random.default_rng(2026)
    cases = []
    for name, size, numbers, values in TYPES:
        raw = random.integers(0, 256, size=(3, size), dtype=np.uint8)
        if name in ("F32", "BF16"):
            numbers_of = random.normal(size=(3, 1)).astype(F)
            raw = numbers_of.view(np.uint8).reshape(3, 4)[:, 4 - size :].copy()
        for at in numbers:
            raw[:, at : at + 2] = random.normal(scale=0.1, size=(3, 1)).astype(np.float16).view(np.uint8)
        bits = values(raw).astype(F).view(np.uint32)
        cases.append({"type": name, "bytes": raw.tobytes().hex(), "bits": bits.flatten().tolist()})
    print(json.dumps(cases))


if __name__ == "__main__":
    main()
