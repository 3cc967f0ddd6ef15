//! What tensors are stored as, and how much memory that takes.

use crate::precision::Precision;
use std::fmt;
use vastrelay_kernels::groups::Bits;

/// Most weights of a row that share a scale in memory: kernels round as many activations together.
pub(crate) const SCALED_GROUP: usize = 128;
/// Groups are whole multiples of so many weights, as kernels take them.
pub(crate) const STEP: usize = 8;

/// Returns how many weights share a scale in memory where so many of a row of `inputs` share one in the file: as many, or a part of
/// them that divides them where they are more than [`SCALED_GROUP`]. Nothing where kernels do not take them; then weights become floats.
pub(crate) fn group_in_memory(group: usize, inputs: usize) -> Option<usize> {
    let kept = match group {
        _ if group >= inputs => group.min(SCALED_GROUP),
        0..=SCALED_GROUP => group,
        _ => gcd(group, SCALED_GROUP),
    };
    // A row that is one group has no group after it, so its own length does not matter.
    let kept = if group >= inputs {
        kept.next_multiple_of(STEP)
    } else {
        kept
    };
    (kept > 0 && kept.is_multiple_of(STEP)).then_some(kept)
}

/// Returns the greatest number that divides both.
pub(crate) fn gcd(a: usize, b: usize) -> usize {
    if b == 0 { a } else { gcd(b, a % b) }
}

/// The lossless form of a tensor in memory.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Kind {
    /// 32-bit floats.
    F32,
    /// Brain floats.
    Bf16,
    /// Half-precision floats.
    F16,
    /// 8-bit floats with scales.
    F8 {
        /// Weights of a row that share a scale.
        block: usize,
    },
    /// Small numbers with scales.
    Groups {
        /// Bits of a number.
        bits: Bits,
        /// Weights of a row that share a scale.
        group: usize,
        /// Whether groups have minima.
        minima: bool,
    },
}

impl fmt::Display for Kind {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Kind::F32 => f.write_str("f32"),
            Kind::Bf16 => f.write_str("bf16"),
            Kind::F16 => f.write_str("f16"),
            Kind::F8 { block } => write!(f, "fp8 in blocks of {block}"),
            Kind::Groups { bits, group, .. } => {
                let bits = if *bits == Bits::Eight { 8 } else { 4 };
                write!(f, "int{bits} in groups of {group}")
            }
        }
    }
}

impl Kind {
    /// Returns what weights of this kind become in a precision.
    pub fn in_precision(self, precision: Precision) -> Kind {
        match (precision, self) {
            (Precision::AsStored, kind) => kind,
            (Precision::F32, _) => Kind::F32,
            (Precision::Bf16, _) => Kind::Bf16,
            (Precision::Groups { bits, group }, Kind::Groups { bits: b, group: g, .. }) if (bits, group) == (b, g) => {
                self
            }
            (Precision::Groups { bits, group }, _) => Kind::Groups {
                bits,
                group,
                minima: bits == Bits::Four,
            },
        }
    }

    /// Returns the bytes of so many weights; each scale and each minimum takes `scale` bytes.
    pub fn bytes(self, weights: usize, scale: usize) -> usize {
        match self {
            Kind::F32 => 4 * weights,
            Kind::Bf16 | Kind::F16 => 2 * weights,
            Kind::F8 { block } => weights + weights.div_ceil(block) * scale,
            Kind::Groups { bits, group, minima } => {
                let numbers = if bits == Bits::Eight { weights } else { weights / 2 };
                numbers + weights.div_ceil(group) * scale * (1 + usize::from(minima))
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn bytes_are_those_of_numbers_scales_and_minima() {
        let kind = |bits, minima| Kind::Groups {
            bits,
            group: 32,
            minima,
        };
        assert_eq!(Kind::Bf16.bytes(64, 2), 128);
        assert_eq!(kind(Bits::Eight, false).bytes(64, 2), 64 + 4);
        assert_eq!(kind(Bits::Four, true).bytes(64, 4), 32 + 16);
        assert_eq!(Kind::F8 { block: 128 }.bytes(300, 4), 300 + 12);
    }
}
