//! Rounding that makes good in later inputs what it does wrong in earlier ones.

use crate::groups::{GroupWeights, nearest, range};
use vastrelay_kernels::groups::Bits;

/// What is added to the diagonal, as a share of its mean, so that inputs which hardly vary do no harm.
const DAMPING: f64 = 0.01;

/// For inputs that were seen, how an error in one weight is best made good in the weights of later inputs.
pub struct Compensation {
    inputs: usize,
    /// An upper triangle U with UᵀU the inverse of the damped sums of products.
    upper: Vec<f32>,
}

impl Compensation {
    /// Prepares from the sums of products of all pairs of inputs, `[inputs, inputs]`.
    ///
    /// # Panics
    /// When `gram` is not a square of that size.
    pub fn new(gram: &[f32], inputs: usize) -> Compensation {
        assert_eq!(gram.len(), inputs * inputs, "a square of {inputs}");
        let mean = (0..inputs).map(|i| f64::from(gram[i * inputs + i])).sum::<f64>() / inputs as f64;
        let damping = if mean > 0.0 { mean * DAMPING } else { 1.0 };
        // H = R·Rᵀ with R upper, from the last row up; then U = R⁻¹.
        let mut r = vec![0.0f64; inputs * inputs];
        for j in (0..inputs).rev() {
            for i in (0..=j).rev() {
                let products: f64 = (j + 1..inputs).map(|k| r[i * inputs + k] * r[j * inputs + k]).sum();
                let value = f64::from(gram[i * inputs + j]) - products;
                r[i * inputs + j] = if i == j {
                    (value + damping).max(damping * 1e-6).sqrt()
                } else {
                    value / r[j * inputs + j]
                };
            }
        }
        Compensation {
            inputs,
            upper: invert_upper(&r, inputs).into_iter().map(|value| value as f32).collect(),
        }
    }

    /// Rounds rows of weights, one input after the other, each time taking the rounding's error, weighted by what the inputs
    /// have in common, from the weights that are still to come ("GPTQ: Accurate Post-Training Quantization for Generative
    /// Pre-trained Transformers", Frantar et al., 2022).
    ///
    /// # Panics
    /// When `values` is not whole rows.
    pub fn round(&self, values: &[f32], bits: Bits, group: usize, threads: usize) -> GroupWeights {
        let inputs = self.inputs;
        assert!(values.len().is_multiple_of(inputs), "rows of {inputs}");
        let rows = (values.len() / inputs).div_ceil(threads.max(1)).max(1);
        let mut whole = GroupWeights::empty(inputs, bits, group);
        std::thread::scope(|scope| {
            let parts: Vec<_> = values
                .chunks(rows * inputs)
                .map(|part| scope.spawn(move || self.round_rows(part, bits, group)))
                .collect();
            for part in parts {
                whole.append(part.join().expect("rounding does not panic"));
            }
        });
        whole
    }

    fn round_rows(&self, values: &[f32], bits: Bits, group: usize) -> GroupWeights {
        let inputs = self.inputs;
        let mut out = GroupWeights::empty(inputs, bits, group);
        for row in values.chunks_exact(inputs) {
            let mut row = row.to_vec();
            for start in (0..inputs).step_by(group) {
                let end = (start + group).min(inputs);
                let (scale, minimum) = range(&row[start..end], bits);
                let mut numbers = Vec::with_capacity(group);
                for j in start..end {
                    let number = nearest(row[j], scale, minimum, bits);
                    numbers.push(number);
                    let rounded = match bits {
                        Bits::Eight => scale * (f32::from(number) - 128.0),
                        Bits::Four => scale * f32::from(number) + minimum,
                    };
                    let upper = &self.upper[j * inputs..(j + 1) * inputs];
                    let error = (row[j] - rounded) / upper[j];
                    for (weight, share) in row[j + 1..].iter_mut().zip(&upper[j + 1..]) {
                        *weight -= error * share;
                    }
                }
                out.push(scale, minimum, numbers.into_iter());
            }
        }
        out
    }
}

/// Returns the inverse of an upper triangle.
fn invert_upper(r: &[f64], n: usize) -> Vec<f64> {
    let mut inverse = vec![0.0f64; n * n];
    for i in (0..n).rev() {
        // Row i of the inverse, from the rows below it.
        let (above, below) = inverse.split_at_mut((i + 1) * n);
        let row = &mut above[i * n..];
        row[i] = 1.0;
        for k in i + 1..n {
            let factor = r[i * n + k];
            let lower = &below[(k - i - 1) * n..(k - i) * n];
            for j in k..n {
                row[j] -= factor * lower[j];
            }
        }
        let diagonal = r[i * n + i];
        row[i..].iter_mut().for_each(|value| *value /= diagonal);
    }
    inverse
}

#[cfg(test)]
mod tests {
    use super::*;

    fn random(seed: u64, count: usize) -> Vec<f32> {
        let mut state = seed;
        (0..count)
            .map(|_| {
                state = state
                    .wrapping_mul(6364136223846793005)
                    .wrapping_add(1442695040888963407);
                (state >> 40) as f32 / (1u64 << 23) as f32 - 1.0
            })
            .collect()
    }

    /// Inputs that have much in common, as activations do.
    fn inputs(rows: usize, width: usize) -> Vec<f32> {
        let (hidden, mix) = (random(1, rows * 6), random(2, 6 * width));
        let noise = random(3, rows * width);
        (0..rows * width)
            .map(|at| {
                let (row, column) = (at / width, at % width);
                let common: f32 = (0..6).map(|k| hidden[row * 6 + k] * mix[k * width + column]).sum();
                common + 0.1 * noise[at]
            })
            .collect()
    }

    fn gram(x: &[f32], width: usize) -> Vec<f32> {
        let mut gram = vec![0.0; width * width];
        for row in x.chunks_exact(width) {
            for (at, sum) in gram.iter_mut().enumerate() {
                *sum += row[at / width] * row[at % width];
            }
        }
        gram
    }

    fn error(x: &[f32], width: usize, weights: &[f32], rounded: &[f32]) -> f64 {
        let product = |x: &[f32], w: &[f32]| x.iter().zip(w).map(|(x, w)| f64::from(x * w)).sum::<f64>();
        let rows = x.chunks_exact(width);
        rows.flat_map(|x| {
            let pairs = weights.chunks_exact(width).zip(rounded.chunks_exact(width));
            pairs.map(move |(w, r)| (product(x, w) - product(x, r)).powi(2))
        })
        .sum()
    }

    #[test]
    fn outputs_come_out_nearer_than_by_plain_rounding() {
        let (width, outputs) = (64, 24);
        let (x, weights) = (inputs(200, width), random(4, outputs * width));
        let compensation = Compensation::new(&gram(&x, width), width);
        for bits in [Bits::Four, Bits::Eight] {
            let plain = GroupWeights::round(&weights, width, bits, 32).values();
            let better = compensation.round(&weights, bits, 32, 2).values();
            let (plain, better) = (error(&x, width, &weights, &plain), error(&x, width, &weights, &better));
            assert!(better < 0.5 * plain, "{better} for {plain}");
        }
    }

    #[test]
    fn the_upper_triangle_squares_to_the_inverse() {
        let width = 12;
        let gram = gram(&inputs(50, width), width);
        let upper = Compensation::new(&gram, width).upper;
        let mean = (0..width).map(|i| gram[i * width + i]).sum::<f32>() / width as f32;
        for i in 0..width {
            for j in 0..width {
                // H · UᵀU is the identity.
                let sum: f64 = (0..width)
                    .map(|k| {
                        let damped = gram[i * width + k] + if i == k { 0.01 * mean } else { 0.0 };
                        let inverse: f64 = (0..width)
                            .map(|m| f64::from(upper[m * width + k]) * f64::from(upper[m * width + j]))
                            .sum();
                        f64::from(damped) * inverse
                    })
                    .sum();
                let wanted = if i == j { 1.0 } else { 0.0 };
                assert!((sum - wanted).abs() < 1e-3, "{i} {j}: {sum}");
            }
        }
    }

    #[test]
    fn inputs_that_were_never_seen_are_rounded_plainly() {
        let weights = random(5, 32);
        let rounded = Compensation::new(&[0.0; 32 * 32], 32).round(&weights, Bits::Four, 32, 1);
        assert_eq!(rounded, GroupWeights::round(&weights, 32, Bits::Four, 32));
    }
}
