//! The gated activation of an MLP block.

use crate::exponential::{exp, tanh};
use crate::isa::for_each_isa;

for_each_isa! {
    /// Computes `silu(gate) · up` for rows `[gate | up]` of twice the width of `out`'s rows.
    ///
    /// SiLU is x / (1 + e⁻ˣ); the gate is that of "GLU Variants Improve Transformer", Shazeer, 2020.
    ///
    /// # Panics
    /// When `gate_up` is not twice as long as `out`, or `out` is not whole rows of `width`.
    pub fn silu_gate(gate_up: &[f32], width: usize, out: &mut [f32]) {
        check(gate_up, width, out);
        for (pair, out) in gate_up.chunks_exact(2 * width).zip(out.chunks_exact_mut(width)) {
            let (gate, up) = pair.split_at(width);
            for ((out, gate), up) in out.iter_mut().zip(gate).zip(up) {
                *out = gate / (1.0 + exp(-gate)) * up;
            }
        }
    }
}

for_each_isa! {
    /// Computes `gelu(gate) · up` for rows `[gate | up]` of twice the width of `out`'s rows.
    ///
    /// GELU is x/2 · (1 + tanh(√(2/π) (x + 0.044715 x³))), from "Gaussian Error Linear Units (GELUs)", Hendrycks and
    /// Gimpel, 2016.
    ///
    /// # Panics
    /// When `gate_up` is not twice as long as `out`, or `out` is not whole rows of `width`.
    pub fn gelu_gate(gate_up: &[f32], width: usize, out: &mut [f32]) {
        check(gate_up, width, out);
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

fn check(gate_up: &[f32], width: usize, out: &[f32]) {
    assert!(
        gate_up.len() == 2 * out.len() && out.len().is_multiple_of(width),
        "rows of a gate"
    );
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Isa;

    #[test]
    fn gelu_matches_its_formula_on_every_instruction_set() {
        let width = 33;
        let gate_up: Vec<f32> = (0..4 * width).map(|i| (i as f32 * 0.71).sin() * 6.0).collect();
        for isa in Isa::available() {
            let mut out = vec![0.0; 2 * width];
            gelu_gate(isa, &gate_up, width, &mut out);
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
        silu_gate(Isa::PORTABLE, &gate_up, width, &mut scalar);
        for row in 0..2 {
            for i in 0..width {
                let gate = gate_up[row * 2 * width + i] as f64;
                let wanted = gate / (1.0 + (-gate).exp()) * gate_up[row * 2 * width + width + i] as f64;
                assert!((scalar[row * width + i] as f64 - wanted).abs() < 1e-4);
            }
        }
        for isa in Isa::available() {
            let mut out = vec![0.0; 2 * width];
            silu_gate(isa, &gate_up, width, &mut out);
            assert_eq!(out, scalar, "{isa:?}");
        }
    }
}
