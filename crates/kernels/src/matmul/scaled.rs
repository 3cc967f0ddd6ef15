//! 8-bit floats, each block of an output's inputs times a scale.

use super::tile::{Ahead, Call, Panels, Stored, in_chunks};
use crate::isa::{Isa, for_each_isa};
use crate::tiling::Space;
use crate::vector::{F8_SHRINK, f8_as_f16};
use crate::{Aligned, LANES};
use std::ops::Range;

/// Packed 8-bit floats and the scales of their blocks, `[panels, blocks, LANES]`.
#[derive(Clone, Copy)]
pub(super) struct Scaled<'a> {
    pub numbers: &'a [u8],
    pub scales: &'a [f32],
    /// Inputs that share a scale.
    pub block: usize,
    pub inputs: usize,
}

impl Scaled<'_> {
    /// Returns the weight of an output and an input.
    pub fn value(&self, output: usize, input: usize) -> f32 {
        let (panel, lane) = (output / LANES, output % LANES);
        let number = self.numbers[(panel * self.inputs + input) * LANES + lane];
        let scale = self.scales[(panel * self.blocks() + input / self.block) * LANES + lane];
        f8_as_f16(number).to_f32() * (scale / F8_SHRINK)
    }

    fn blocks(&self) -> usize {
        self.inputs.div_ceil(self.block)
    }
}

impl Stored for Scaled<'_> {
    fn wide<'a>(
        &'a self,
        isa: Isa,
        panels: Range<usize>,
        inputs: Range<usize>,
        to: &'a mut Aligned<f32>,
    ) -> Panels<'a, f32> {
        let (count, len) = (panels.len(), inputs.len());
        widen(isa, *self, panels, inputs, to);
        Panels::beside(to, count, len)
    }

    fn ahead(&self, panel: usize, input: usize) -> Ahead {
        Ahead::of(self.numbers, (panel * self.inputs + input) * LANES)
    }

    fn one_tile(&self, isa: Isa, call: &Call<'_>, panels: Range<usize>, space: &mut Space) {
        in_chunks(isa, call, self, panels, space);
    }
}

for_each_isa! {
    fn widen<V>(weights: Scaled<'_>, panels: Range<usize>, inputs: Range<usize>, to: &mut Aligned<f32>) {
        let Scaled { numbers, scales, block, inputs: all } = weights;
        let blocks = weights.blocks();
        to.resize(panels.len() * inputs.len() * LANES);
        for (panel, to) in panels.zip(to.chunks_exact_mut(inputs.len() * LANES)) {
            let mut first = inputs.start;
            while first < inputs.end {
                let last = inputs.end.min((first / block + 1) * block);
                let count = last - first;
                let scale = &scales[(panel * blocks + first / block) * LANES..][..LANES];
                let numbers = &numbers[(panel * all + first) * LANES..][..count * LANES];
                let to = &mut to[(first - inputs.start) * LANES..][..count * LANES];
                // SAFETY: there are sixteen scales, and sixteen numbers and as much room for each of `count` inputs.
                unsafe {
                    let scale = V::mul(V::load(scale.as_ptr()), V::splat(1.0 / F8_SHRINK));
                    let (numbers, to) = (numbers.as_ptr(), to.as_mut_ptr());
                    for input in 0..count {
                        let wide = V::mul(V::load_f8(numbers.add(input * LANES)), scale);
                        V::store(to.add(input * LANES), wide);
                    }
                }
                first = last;
            }
        }
    }
}
