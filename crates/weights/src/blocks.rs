//! Weights stored in blocks that share scales, as GGUF files have them, and their exact values.
//!
//! Every type is the file format's own: 32 or 256 weights to a block, little-endian, one or two half-precision scales, small
//! integers for the weights and, in blocks of 256, small integers that scale each sixteen or thirty-two of them.

use crate::groups::GroupWeights;
use half::{bf16, f16};
use vastrelay_kernels::groups::Bits;

/// How the values of a tensor are stored.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum BlockType {
    /// 32-bit floats.
    F32,
    /// Half-precision floats.
    F16,
    /// Brain floats.
    Bf16,
    /// 4 bits and a scale.
    Q4_0,
    /// 4 bits, a scale and a minimum.
    Q4_1,
    /// 5 bits and a scale.
    Q5_0,
    /// 5 bits, a scale and a minimum.
    Q5_1,
    /// 8 bits and a scale.
    Q8_0,
    /// 2 bits; scales and minima of 4 bits.
    Q2K,
    /// 3 bits; scales of 6 bits.
    Q3K,
    /// 4 bits; scales and minima of 6 bits.
    Q4K,
    /// 5 bits; scales and minima of 6 bits.
    Q5K,
    /// 6 bits; scales of 8 bits.
    Q6K,
}

/// Each type with its number in files, its name, the weights of a block and the bytes of a block.
const TYPES: [(BlockType, u32, &str, usize, usize); 13] = [
    (BlockType::F32, 0, "F32", 1, 4),
    (BlockType::F16, 1, "F16", 1, 2),
    (BlockType::Bf16, 30, "BF16", 1, 2),
    (BlockType::Q4_0, 2, "Q4_0", 32, 18),
    (BlockType::Q4_1, 3, "Q4_1", 32, 20),
    (BlockType::Q5_0, 6, "Q5_0", 32, 22),
    (BlockType::Q5_1, 7, "Q5_1", 32, 24),
    (BlockType::Q8_0, 8, "Q8_0", 32, 34),
    (BlockType::Q2K, 10, "Q2_K", 256, 84),
    (BlockType::Q3K, 11, "Q3_K", 256, 110),
    (BlockType::Q4K, 12, "Q4_K", 256, 144),
    (BlockType::Q5K, 13, "Q5_K", 256, 176),
    (BlockType::Q6K, 14, "Q6_K", 256, 210),
];

impl BlockType {
    /// Returns the type of a number in a file.
    pub fn of(number: u32) -> Option<BlockType> {
        TYPES.iter().find(|entry| entry.1 == number).map(|entry| entry.0)
    }

    /// Returns all types.
    pub fn all() -> impl Iterator<Item = BlockType> {
        TYPES.iter().map(|entry| entry.0)
    }

    /// Returns its name.
    pub fn name(self) -> &'static str {
        self.entry().2
    }

    /// Returns how many weights share a block.
    pub fn weights(self) -> usize {
        self.entry().3
    }

    /// Returns the bytes of a block.
    pub fn bytes(self) -> usize {
        self.entry().4
    }

    fn entry(self) -> &'static (BlockType, u32, &'static str, usize, usize) {
        TYPES
            .iter()
            .find(|entry| entry.0 == self)
            .expect("every type has its entry")
    }

    /// Returns how the blocks are taken apart: bits of a number, weights that share a scale, and whether there are minima; none
    /// for floats.
    pub fn parts(self) -> Option<(Bits, usize, bool)> {
        match self {
            BlockType::F32 | BlockType::F16 | BlockType::Bf16 => None,
            BlockType::Q4_0 => Some((Bits::Four, 32, false)),
            BlockType::Q4_1 | BlockType::Q4K => Some((Bits::Four, 32, true)),
            BlockType::Q5_0 | BlockType::Q8_0 => Some((Bits::Eight, 32, false)),
            BlockType::Q5_1 | BlockType::Q5K => Some((Bits::Eight, 32, true)),
            BlockType::Q2K => Some((Bits::Four, 16, true)),
            BlockType::Q3K => Some((Bits::Four, 16, false)),
            BlockType::Q6K => Some((Bits::Eight, 16, false)),
        }
    }

    /// Returns the values of whole blocks.
    ///
    /// # Panics
    /// When the bytes are not whole blocks.
    pub fn values(self, bytes: &[u8]) -> Vec<f32> {
        let blocks = bytes.chunks_exact(self.bytes());
        match self {
            BlockType::F32 => blocks.map(|b| f32::from_le_bytes([b[0], b[1], b[2], b[3]])).collect(),
            BlockType::F16 => blocks.map(|block| half(block, 0)).collect(),
            BlockType::Bf16 => blocks.map(|b| bf16::from_le_bytes([b[0], b[1]]).to_f32()).collect(),
            _ => {
                let inputs = bytes.len() / self.bytes() * self.weights();
                self.groups(bytes, inputs).expect("blocks of small numbers").values()
            }
        }
    }

    /// Returns the numbers, scales and minima of whole blocks that make up rows of so many weights; none for floats.
    ///
    /// # Panics
    /// When the bytes are not whole blocks.
    pub fn groups(self, bytes: &[u8], inputs: usize) -> Option<GroupWeights> {
        let (bits, group, least) = self.parts()?;
        assert!(
            bytes.len().is_multiple_of(self.bytes()),
            "{} bytes of {}",
            bytes.len(),
            self.name()
        );
        let count = bytes.len() / self.bytes() * self.weights();
        let mut out = GroupWeights {
            inputs,
            bits,
            group,
            numbers: Vec::with_capacity(count),
            scales: Vec::with_capacity(count / group),
            minima: least.then(|| Vec::with_capacity(count / group)),
        };
        for block in bytes.chunks_exact(self.bytes()) {
            match self {
                BlockType::Q4_0 => out.push(half(block, 0), 0.0, four_bits(&block[2..])),
                BlockType::Q4_1 => out.push(half(block, 0), half(block, 2), four_bits(&block[4..])),
                // From 0 … 31 around 16 to numbers around 128.
                BlockType::Q5_0 => out.push(half(block, 0), 0.0, five_bits(&block[2..]).map(|n| n + 112)),
                BlockType::Q5_1 => out.push(half(block, 0), half(block, 2), five_bits(&block[4..])),
                BlockType::Q8_0 => out.push(half(block, 0), 0.0, block[2..].iter().map(|byte| byte ^ 0x80)),
                BlockType::Q2K => two_bits_k(block, &mut out),
                BlockType::Q3K => three_bits_k(block, &mut out),
                BlockType::Q4K => four_bits_k(block, &mut out),
                BlockType::Q5K => five_bits_k(block, &mut out),
                BlockType::Q6K => six_bits_k(block, &mut out),
                BlockType::F32 | BlockType::F16 | BlockType::Bf16 => unreachable!("floats have no groups"),
            }
        }
        Some(out)
    }
}

fn half(block: &[u8], at: usize) -> f32 {
    f16::from_le_bytes([block[at], block[at + 1]]).to_f32()
}

/// The first sixteen weights lie in the low halves of the bytes, the others in the high halves.
fn four_bits(packed: &[u8]) -> impl Iterator<Item = u8> {
    let low = packed[..16].iter().map(|byte| byte & 15);
    low.chain(packed[..16].iter().map(|byte| byte >> 4))
}

/// As [`four_bits`], with the fifth bits in a word before them.
fn five_bits(packed: &[u8]) -> impl Iterator<Item = u8> {
    let fifth = u32::from_le_bytes([packed[0], packed[1], packed[2], packed[3]]);
    let low = four_bits(&packed[4..]).enumerate();
    low.map(move |(index, bits)| bits | ((fifth >> index & 1) as u8) << 4)
}

fn two_bits_k(block: &[u8], out: &mut GroupWeights) {
    let (scales, packed) = (&block[..16], &block[16..80]);
    let (scale, minimum) = (half(block, 80), half(block, 82));
    for group in 0..16 {
        let step = scale * f32::from(scales[group] & 15);
        let floor = minimum * f32::from(scales[group] >> 4);
        let (from, shift) = place(group);
        out.push(
            step,
            -floor,
            packed[from..from + 16].iter().map(|byte| byte >> shift & 3),
        );
    }
}

fn three_bits_k(block: &[u8], out: &mut GroupWeights) {
    let (third, packed, scales) = (&block[..32], &block[32..96], &block[96..108]);
    let scale = half(block, 108);
    for group in 0..16 {
        let low = if group < 8 {
            scales[group] & 15
        } else {
            scales[group - 8] >> 4
        };
        let high = scales[8 + group % 4] >> (2 * (group / 4)) & 3;
        let step = scale * (f32::from(low | high << 4) - 32.0);
        let (from, shift) = place(group);
        let bit = group / 2;
        // From 0 … 7 around 4 to numbers around 8.
        let numbers = (0..16).map(|index| {
            let third = third[group % 2 * 16 + index] >> bit & 1;
            (packed[from + index] >> shift & 3 | third << 2) + 4
        });
        out.push(step, 0.0, numbers);
    }
}

/// Where sixteen weights of two bits begin, and by how many bits their bytes are shifted: 128 weights share 32 bytes.
fn place(group: usize) -> (usize, usize) {
    (group / 8 * 32 + group % 2 * 16, group % 8 / 2 * 2)
}

/// Returns the six-bit scale and minimum of a group of thirty-two, out of twelve bytes that hold eight of each.
fn scale_and_minimum(packed: &[u8], group: usize) -> (f32, f32) {
    let (scale, minimum) = if group < 4 {
        (packed[group] & 63, packed[group + 4] & 63)
    } else {
        (
            packed[group + 4] & 15 | packed[group - 4] >> 6 << 4,
            packed[group + 4] >> 4 | packed[group] >> 6 << 4,
        )
    };
    (f32::from(scale), f32::from(minimum))
}

fn four_bits_k(block: &[u8], out: &mut GroupWeights) {
    let (scale, minimum, packed) = (half(block, 0), half(block, 2), &block[16..]);
    for group in 0..8 {
        let (step, floor) = scale_and_minimum(&block[4..16], group);
        let bytes = &packed[group / 2 * 32..][..32];
        let numbers = bytes.iter().map(|byte| byte >> (group % 2 * 4) & 15);
        out.push(scale * step, -(minimum * floor), numbers);
    }
}

fn five_bits_k(block: &[u8], out: &mut GroupWeights) {
    let (scale, minimum) = (half(block, 0), half(block, 2));
    let (fifth, packed) = (&block[16..48], &block[48..]);
    for group in 0..8 {
        let (step, floor) = scale_and_minimum(&block[4..16], group);
        let bytes = &packed[group / 2 * 32..][..32];
        let numbers = bytes
            .iter()
            .zip(fifth)
            .map(|(byte, fifth)| byte >> (group % 2 * 4) & 15 | (fifth >> group & 1) << 4);
        out.push(scale * step, -(minimum * floor), numbers);
    }
}

fn six_bits_k(block: &[u8], out: &mut GroupWeights) {
    let (low, high, scales) = (&block[..128], &block[128..192], &block[192..208]);
    let scale = half(block, 208);
    for (group, step) in scales.iter().enumerate() {
        // From 0 … 63 around 32 to numbers around 128.
        let numbers = (group * 16..(group + 1) * 16).map(|index| {
            // 128 weights share 64 bytes of low bits and 32 bytes of high ones, a quarter of the weights at a time.
            let (part, quarter, place) = (index / 128, index % 128 / 32, index % 32);
            let low = low[part * 64 + quarter % 2 * 32 + place] >> (quarter / 2 * 4) & 15;
            let high = high[part * 32 + place] >> (quarter * 2) & 3;
            (low | high << 4) + 96
        });
        out.push(scale * f32::from(*step as i8), 0.0, numbers);
    }
}
