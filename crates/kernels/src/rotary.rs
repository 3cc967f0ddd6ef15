//! Rotary position embedding.

use crate::isa::for_each_isa;

/// Cosines and sines for every position up to a context, from the inverse frequencies of a model.
pub struct RotaryTable {
    half: usize,
    /// `[positions, half]`.
    cos: Vec<f32>,
    sin: Vec<f32>,
}

impl RotaryTable {
    /// Returns the table of `positions` positions; angles are position × inverse frequency, each sine and cosine times `scale`.
    pub fn new(inverse_frequencies: &[f64], positions: usize, scale: f64) -> RotaryTable {
        let angles = || (0..positions).flat_map(|p| inverse_frequencies.iter().map(move |f| p as f64 * f));
        RotaryTable {
            half: inverse_frequencies.len(),
            cos: angles().map(|angle| (angle.cos() * scale) as f32).collect(),
            sin: angles().map(|angle| (angle.sin() * scale) as f32).collect(),
        }
    }

    /// Returns the number of positions.
    pub fn positions(&self) -> usize {
        self.cos.len() / self.half
    }

    /// Returns the bytes of the table.
    pub fn bytes(&self) -> usize {
        2 * size_of_val(self.cos.as_slice())
    }

    /// Returns the cosines and sines of one position, half a head long each.
    ///
    /// # Panics
    /// When the position is not in the table.
    pub fn at(&self, position: usize) -> (&[f32], &[f32]) {
        let range = position * self.half..(position + 1) * self.half;
        (&self.cos[range.clone()], &self.sin[range])
    }
}

for_each_isa! {
    /// Turns every head of `heads: [count, 2 · half]` by the angles of one position: element i with element i + half.
    ///
    /// From "RoFormer: Enhanced Transformer with Rotary Position Embedding", Su et al., 2021, in the order of rows that
    /// safetensors checkpoints use.
    ///
    /// # Panics
    /// When `heads` is not whole heads.
    pub fn rotate(heads: &mut [f32], cos: &[f32], sin: &[f32]) {
        let half = cos.len();
        assert!(sin.len() == half && heads.len().is_multiple_of(2 * half), "heads to rotate");
        for head in heads.chunks_exact_mut(2 * half) {
            let (a, b) = head.split_at_mut(half);
            for (((a, b), cos), sin) in a.iter_mut().zip(b).zip(cos).zip(sin) {
                (*a, *b) = (*a * cos - *b * sin, *b * cos + *a * sin);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Isa;

    #[test]
    fn a_dot_product_depends_on_the_distance_only() {
        let frequencies: Vec<f64> = (0..8).map(|i| 10_000f64.powf(-(i as f64) / 8.0)).collect();
        let table = RotaryTable::new(&frequencies, 64, 1.0);
        let (q, k): (Vec<f32>, Vec<f32>) = (0..16).map(|i| ((i as f32).sin(), (i as f32 * 1.7).cos())).unzip();
        let at = |v: &[f32], position: usize, isa: Isa| {
            let mut v = v.to_vec();
            let (cos, sin) = table.at(position);
            rotate(isa, &mut v, cos, sin);
            v
        };
        let dot = |a: &[f32], b: &[f32]| a.iter().zip(b).map(|(a, b)| a * b).sum::<f32>();
        for isa in Isa::available() {
            let near = dot(&at(&q, 9, isa), &at(&k, 4, isa));
            let far = dot(&at(&q, 59, isa), &at(&k, 54, isa));
            assert!((near - far).abs() < 1e-4, "{near} {far}");
            assert_eq!(at(&q, 33, isa), at(&q, 33, Isa::PORTABLE), "{isa:?}");
        }
        assert_eq!(at(&q, 0, Isa::detect()), q);
    }
}
