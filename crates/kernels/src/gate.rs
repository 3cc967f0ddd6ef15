//! The gated activation of an MLP block.

use crate::Isa;
use crate::exponential::{exp, tanh};
use crate::isa::for_each_isa;
use crate::pool::Pool;

/// Computes `silu(gate) · up` for rows `[gate | up]` of twice the width of `out`'s rows.
///
/// SiLU is x / (1 + e⁻ˣ); the gate is that of "GLU Variants Improve Transformer", Shazeer, 2020.
///
/// # Panics
/// When `gate_up` is not twice as long as `out`, or `out` is not whole rows of `width`.
pub fn silu_gate(isa: Isa, pool: &Pool, gate_up: &[f32], width: usize, out: &mut [f32]) {
    gate(pool, gate_up, width, out, &|gate_up, out| {
        silu_rows(isa, gate_up, width, out)
    });
}

/// Computes `gelu(gate) · up` for rows `[gate | up]` of twice the width of `out`'s rows.
///
/// GELU is x/2 · (1 + tanh(√(2/π) (x + 0.044715 x³))), from "Gaussian Error Linear Units (GELUs)", Hendrycks and
/// Gimpel, 2016.
///
/// # Panics
/// When `gate_up` is not twice as long as `out`, or `out` is not whole rows of `width`.
pub fn gelu_gate(isa: Isa, pool: &Pool, gate_up: &[f32], width: usize, out: &mut [f32]) {
    gate(pool, gate_up, width, out, &|gate_up, out| {
        gelu_rows(isa, gate_up, width, out)
    });
}

/// Shares the rows of a gate out.
fn gate(pool: &Pool, gate_up: &[f32], width: usize, out: &mut [f32], rows: &(dyn Fn(&[f32], &mut [f32]) + Sync)) {
    assert!(gate_up.len() == 2 * out.len(), "rows of a gate");
    pool.rows(out, width, &|row, out| {
        rows(&gate_up[2 * row * width..][..2 * out.len()], out)
    });
}

for_each_isa! {
    fn silu_rows(gate_up: &[f32], width: usize, out: &mut [f32]) {
        for (pair, out) in gate_up.chunks_exact(2 * width).zip(out.chunks_exact_mut(width)) {
            let (gate, up) = pair.split_at(width);
            for ((out, gate), up) in out.iter_mut().zip(gate).zip(up) {
                *out = gate / (1.0 + exp(-gate)) * up;
            }
        }
    }
}

for_each_isa! {
    fn gelu_rows(gate_up: &[f32], width: usize, out: &mut [f32]) {
        const ROOT: f32 = 0.797_884_6;
        for (pair, out) in gate_up.chunks_exact(2 * width).zip(out.chunks_exact_mut(width)) {
            let (gate, up) = pair.split_at(width);
            for ((out, gate), up) in out.iter_mut().zip(gate).zip(up) {
                let inner = ROOT * (0.044_715 * gate * gate).mul_add(*gate, *gate);
                *out = 0.5 * gate * (1.0 + tanh(inner)) * up;
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn gelu_matches_its_formula_on_every_instruction_set() {
        let width = 33;
        let gate_up: Vec<f32> = (0..4 * width).map(|i| (i as f32 * 0.71).sin() * 6.0).collect();
        for isa in Isa::available() {
            let mut out = vec![0.0; 2 * width];
            gelu_gate(isa, &Pool::new(2), &gate_up, width, &mut out);
            for (place, out) in out.iter().enumerate() {
                let at = place / width * 2 * width + place % width;
                let (x, up) = (gate_up[at] as f64, gate_up[at + width] as f64);
                let inner = (2.0 / std::f64::consts::PI).sqrt() * (x + 0.044715 * x * x * x);
                assert!(
                    (*out as f64 - 0.5 * x * (1.0 + inner.tanh()) * up).abs() < 1e-5,
                    "{isa:?} at {x}"
                );
            }
        }
    }

    #[test]
    fn matches_the_formula_on_every_instruction_set() {
        let width = 37;
        let gate_up: Vec<f32> = (0..4 * width).map(|i| (i as f32 * 0.71).sin() * 20.0).collect();
        let mut scalar = vec![0.0; 2 * width];
        silu_gate(Isa::PORTABLE, &Pool::new(1), &gate_up, width, &mut scalar);
        for row in 0..2 {
            for i in 0..width {
                let gate = gate_up[row * 2 * width + i] as f64;
                let wanted = gate / (1.0 + (-gate).exp()) * gate_up[row * 2 * width + width + i] as f64;
                assert!((scalar[row * width + i] as f64 - wanted).abs() < 1e-4);
            }
        }
        for isa in Isa::available() {
            let mut out = vec![0.0; 2 * width];
            silu_gate(isa, &Pool::new(2), &gate_up, width, &mut out);
            assert_eq!(out, scalar, "{isa:?}");
        }
    }
}
