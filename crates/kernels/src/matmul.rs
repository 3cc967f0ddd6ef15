//! Activations times packed weights.
//!
//! Weights `[outputs, inputs]` are packed into panels of [`LANES`] outputs, input-major within a panel, so that a kernel
//! reads them as one stream. An output is the sum over the inputs in their order, one fused multiply-add each, whatever
//! the number of rows: results are the same bits on every instruction set.

mod scaled;
mod tile;

use crate::cells::Cells;
use crate::isa::Isa;
use crate::sums::{Columns, Output, Write};
use crate::thread_pool::{Shared2d, ThreadPool};
use crate::tiling::share_panels;
use crate::{Aligned, LANES};
use bytemuck::Pod;
use half::{bf16, f16};
use scaled::Scaled;
use std::cell::Cell;
use tile::Plain;

thread_local! {
    /// Rows as they are laid for a product; the memory stays with the thread.
    static LAID: Cell<Aligned<f32>> = Cell::default();
}

/// A weight matrix `[outputs, inputs]`, packed for [`PackedMatrix::apply`].
pub struct PackedMatrix {
    outputs: usize,
    inputs: usize,
    panels: Panels,
}

/// The memory of a [`PackedMatrix`], to be kept and to be read again.
pub enum Panels {
    /// 32-bit floats.
    F32(Cells<f32>),
    /// Brain floats.
    Bf16(Cells<bf16>),
    /// Half-precision floats.
    F16(Cells<f16>),
    /// 8-bit floats with scales.
    F8 {
        /// Their bits.
        numbers: Cells<u8>,
        /// The scales, `[panels, blocks, LANES]`.
        scales: Cells<f32>,
        /// Inputs that share a scale.
        block: usize,
    },
}

/// A matrix to be packed: rows of outputs, in the precision they are stored in. What is narrower than 32 bits is kept as it is
/// and widened when it is read.
#[derive(Clone, Copy)]
pub enum Dense<'a> {
    /// 32-bit floats.
    F32(&'a [f32]),
    /// Brain floats.
    Bf16(&'a [bf16]),
    /// Half-precision floats.
    F16(&'a [f16]),
    /// 8-bit floats with four bits of exponent and three of fraction, none of them NaN ("FP8 Formats for Deep Learning",
    /// Micikevicius et al., 2022).
    F8 {
        /// Their bits.
        numbers: &'a [u8],
        /// What each block of a row is multiplied by, `[outputs, blocks]`.
        scales: &'a [f32],
        /// Inputs that share a scale; the last block of a row may be shorter.
        block: usize,
    },
}

/// What a matrix was packed from, one below the other; see [`Dense`].
pub enum Unpacked {
    /// 32-bit floats.
    F32(Vec<f32>),
    /// Brain floats.
    Bf16(Vec<bf16>),
    /// Half-precision floats.
    F16(Vec<f16>),
    /// 8-bit floats.
    F8 {
        /// Their bits.
        numbers: Vec<u8>,
        /// Scales, `[outputs, blocks]`.
        scales: Vec<f32>,
        /// Inputs that share a scale.
        block: usize,
    },
}

impl Dense<'_> {
    /// Returns how many weights there are.
    fn len(&self) -> usize {
        match self {
            Dense::F32(values) => values.len(),
            Dense::Bf16(values) => values.len(),
            Dense::F16(values) => values.len(),
            Dense::F8 { numbers, .. } => numbers.len(),
        }
    }
}

impl PackedMatrix {
    /// Packs matrices that share their inputs, one below the other, as one: their products come side by side.
    ///
    /// # Panics
    /// When a part's length is not a multiple of `inputs`, or the parts differ in precision.
    pub fn pack(parts: &[Dense<'_>], inputs: usize) -> PackedMatrix {
        let outputs = parts.iter().map(|part| part.len() / inputs).sum();
        let panels = match parts[0] {
            Dense::F32(_) => Panels::F32(pack_all(parts, inputs, |part| match part {
                Dense::F32(values) => Some(values),
                _ => None,
            })),
            Dense::Bf16(_) => Panels::Bf16(pack_all(parts, inputs, |part| match part {
                Dense::Bf16(values) => Some(values),
                _ => None,
            })),
            Dense::F16(_) => Panels::F16(pack_all(parts, inputs, |part| match part {
                Dense::F16(values) => Some(values),
                _ => None,
            })),
            Dense::F8 { block, .. } => Panels::F8 {
                numbers: pack_all(parts, inputs, |part| match part {
                    Dense::F8 { numbers, block: b, .. } if b == block => Some(numbers),
                    _ => None,
                }),
                scales: pack_all(parts, inputs.div_ceil(block), |part| match part {
                    Dense::F8 { scales, .. } => Some(scales),
                    _ => None,
                }),
                block,
            },
        };
        PackedMatrix::of_panels(panels, outputs, inputs)
    }

    /// Returns a matrix over memory that another one was packed into.
    ///
    /// # Panics
    /// When the memory is not that of such a matrix.
    pub fn of_panels(panels: Panels, outputs: usize, inputs: usize) -> PackedMatrix {
        let of_panel = |len: usize| outputs.div_ceil(LANES) * LANES * len;
        let fits = match &panels {
            Panels::F32(values) => values.len() == of_panel(inputs),
            Panels::Bf16(values) => values.len() == of_panel(inputs),
            Panels::F16(values) => values.len() == of_panel(inputs),
            Panels::F8 { numbers, scales, block } => {
                numbers.len() == of_panel(inputs) && scales.len() == of_panel(inputs.div_ceil(*block))
            }
        };
        assert!(fits, "the panels of a matrix of {outputs} by {inputs}");
        PackedMatrix {
            outputs,
            inputs,
            panels,
        }
    }

    /// Returns what was packed, output by output.
    pub fn unpack(&self) -> Unpacked {
        let Self { outputs, inputs, .. } = *self;
        match &self.panels {
            Panels::F32(values) => Unpacked::F32(unpack_all(values, outputs, inputs)),
            Panels::Bf16(values) => Unpacked::Bf16(unpack_all(values, outputs, inputs)),
            Panels::F16(values) => Unpacked::F16(unpack_all(values, outputs, inputs)),
            Panels::F8 { numbers, scales, block } => Unpacked::F8 {
                numbers: unpack_all(numbers, outputs, inputs),
                scales: unpack_all(scales, outputs, inputs.div_ceil(*block)),
                block: *block,
            },
        }
    }

    /// Returns the packed panels.
    pub fn panels(&self) -> &Panels {
        &self.panels
    }

    /// Returns the number of outputs.
    pub fn outputs(&self) -> usize {
        self.outputs
    }

    /// Returns the number of inputs.
    pub fn inputs(&self) -> usize {
        self.inputs
    }

    /// Returns the bytes that the packed weights take.
    pub fn bytes(&self) -> usize {
        match &self.panels {
            Panels::F32(values) => size_of_val(&**values),
            Panels::Bf16(values) => size_of_val(&**values),
            Panels::F16(values) => size_of_val(&**values),
            Panels::F8 { numbers, scales, .. } => size_of_val(&**numbers) + size_of_val(&**scales),
        }
    }

    /// Copies the weights of one output, widened, into `row`: an embedding, when the matrix is tied to the head.
    ///
    /// # Panics
    /// When there is no such output or `row` is not `inputs` long.
    pub fn read_row(&self, output: usize, row: &mut [f32]) {
        assert!(
            output < self.outputs && row.len() == self.inputs,
            "row {output} of {}",
            self.outputs
        );
        let start = output / LANES * LANES * self.inputs + output % LANES;
        let places = (start..).step_by(LANES);
        match &self.panels {
            Panels::F32(values) => row.iter_mut().zip(places).for_each(|(out, at)| *out = values[at]),
            Panels::Bf16(values) => row
                .iter_mut()
                .zip(places)
                .for_each(|(out, at)| *out = values[at].to_f32()),
            Panels::F16(values) => row
                .iter_mut()
                .zip(places)
                .for_each(|(out, at)| *out = values[at].to_f32()),
            Panels::F8 { numbers, scales, block } => {
                let weights = self.scaled(numbers, scales, *block);
                row.iter_mut()
                    .enumerate()
                    .for_each(|(input, out)| *out = weights.value(output, input));
            }
        }
    }

    fn scaled<'a>(&self, numbers: &'a [u8], scales: &'a [f32], block: usize) -> Scaled<'a> {
        Scaled {
            numbers,
            scales,
            block,
            inputs: self.inputs,
        }
    }

    /// Computes `out = x · weightsᵀ` (or adds it) for rows `x: [rows, inputs]`, `out: [rows, outputs]`.
    ///
    /// # Panics
    /// When the lengths of `x` and `out` do not fit one number of rows.
    pub fn apply(&self, isa: Isa, threads: &ThreadPool, x: &[f32], out: &mut [f32], write: Write) {
        let columns = Columns {
            stride: self.outputs,
            from: 0,
        };
        self.apply_beside(isa, threads, x, out, columns, write);
    }

    /// As [`PackedMatrix::apply`], with outputs that lie beside others.
    ///
    /// # Panics
    /// As there.
    pub fn apply_beside(
        &self,
        isa: Isa,
        threads: &ThreadPool,
        x: &[f32],
        out: &mut [f32],
        columns: Columns,
        write: Write,
    ) {
        let rows = x.len() / self.inputs;
        assert!(x.len() == rows * self.inputs, "rows of {}", self.inputs);
        columns.check(self.outputs, rows, out.len());
        if rows == 0 {
            return;
        }
        let tiles = rows.div_ceil(isa.float_tile().rows);
        let mut laid = LAID.take();
        let mut x = x;
        if rows > 1 {
            tile::lay_rows(threads, x, self.inputs, tiles, &mut laid);
            x = &laid;
        }
        let shared = Shared2d::new(out);
        let call = tile::Call {
            x,
            rows,
            tiles,
            inputs: self.inputs,
            output: Output {
                out: &shared,
                columns,
                outputs: self.outputs,
                write,
            },
        };
        let inputs = self.inputs;
        let panels = self.outputs.div_ceil(LANES);
        share_panels(threads, panels, rows, &|panels, space| match &self.panels {
            Panels::F32(values) => tile::walk(isa, &call, &Plain { values, inputs }, panels, space),
            Panels::Bf16(values) => tile::walk(isa, &call, &Plain { values, inputs }, panels, space),
            Panels::F16(values) => tile::walk(isa, &call, &Plain { values, inputs }, panels, space),
            Panels::F8 { numbers, scales, block } => {
                tile::walk(isa, &call, &self.scaled(numbers, scales, *block), panels, space)
            }
        });
        LAID.set(laid);
    }
}

/// Packs the values of all parts; outputs that fill up the last panel are zero.
///
/// # Panics
/// When a part has no values of this type, or not whole rows of them.
fn pack_all<'a, T: Pod>(parts: &[Dense<'a>], inputs: usize, values: impl Fn(Dense<'a>) -> Option<&'a [T]>) -> Cells<T> {
    let rows: Vec<&[T]> = parts
        .iter()
        .flat_map(|part| {
            let values = values(*part).expect("the parts of one matrix share their precision");
            assert!(
                values.len().is_multiple_of(inputs),
                "a matrix of {} with {inputs} inputs",
                values.len()
            );
            values.chunks_exact(inputs)
        })
        .collect();
    let mut packed = Aligned::zeros(rows.len().div_ceil(LANES) * LANES * inputs);
    for (panel, rows) in packed.chunks_exact_mut(LANES * inputs).zip(rows.chunks(LANES)) {
        for (lane, row) in rows.iter().enumerate() {
            for (i, value) in row.iter().enumerate() {
                panel[i * LANES + lane] = *value;
            }
        }
    }
    packed.into()
}

/// Undoes [`pack_all`].
fn unpack_all<T: Pod>(packed: &[T], outputs: usize, inputs: usize) -> Vec<T> {
    let value = |output: usize, input: usize| packed[(output / LANES * inputs + input) * LANES + output % LANES];
    let row = |output: usize| (0..inputs).map(move |input| value(output, input));
    (0..outputs).flat_map(row).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn values(seed: u64, count: usize) -> Vec<f32> {
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

    /// The value of an 8-bit float, by its definition.
    fn value_of_f8(bits: u8) -> f32 {
        let sign = if bits & 0x80 == 0 { 1.0 } else { -1.0 };
        let fraction = f32::from(bits & 7) / 8.0;
        match bits >> 3 & 15 {
            0 => sign * fraction * 2f32.powi(-6),
            exponent => sign * (1.0 + fraction) * 2f32.powi(i32::from(exponent) - 7),
        }
    }

    /// The definition: inputs in order, one fused multiply-add each.
    fn product(x: &[f32], weights: &[f32], inputs: usize) -> Vec<f32> {
        x.chunks_exact(inputs)
            .flat_map(|x| {
                weights
                    .chunks_exact(inputs)
                    .map(move |w| x.iter().zip(w).fold(0.0f32, |sum, (x, w)| x.mul_add(*w, sum)))
            })
            .collect()
    }

    /// Compares a product of random numbers with its definition, for all kinds of weights on all instructions.
    fn has_the_bits_of_the_definition(
        rows: usize,
        outputs: usize,
        inputs: usize,
        block: usize,
        cores: usize,
        seed: u64,
    ) -> Result<(), TestCaseError> {
        let x = values(seed, rows * inputs);
        let weights = values(seed ^ 1, outputs * inputs);
        let brain: Vec<bf16> = weights.iter().map(|w| bf16::from_f32(*w)).collect();
        let of_brain: Vec<f32> = brain.iter().map(|w| w.to_f32()).collect();
        let half: Vec<f16> = weights.iter().map(|w| f16::from_f32(*w)).collect();
        let of_half: Vec<f32> = half.iter().map(|w| w.to_f32()).collect();
        // All 8-bit floats but NaN.
        let numbers: Vec<u8> = (0..outputs * inputs)
            .map(|at| (at * 37 % 127) as u8 | (at as u8 & 1) << 7)
            .collect();
        let blocks = inputs.div_ceil(block);
        let scales: Vec<f32> = values(seed ^ 2, outputs * blocks);
        let of_numbers: Vec<f32> = numbers
            .iter()
            .enumerate()
            .map(|(at, bits)| value_of_f8(*bits) * scales[at / inputs * blocks + at % inputs / block])
            .collect();
        let threads = ThreadPool::new(cores);
        for isa in Isa::available() {
            for (part, weights) in [
                (Dense::F32(&weights), &weights),
                (Dense::Bf16(&brain), &of_brain),
                (Dense::F16(&half), &of_half),
                (
                    Dense::F8 {
                        numbers: &numbers,
                        scales: &scales,
                        block,
                    },
                    &of_numbers,
                ),
            ] {
                let packed = PackedMatrix::pack(&[part], inputs);
                let wanted = product(&x, weights, inputs);
                let mut out = vec![f32::NAN; rows * outputs];
                packed.apply(isa, &threads, &x, &mut out, Write::Replace);
                prop_assert_eq!(&out, &wanted, "{:?}", isa);
                packed.apply(isa, &threads, &x, &mut out, Write::Add);
                prop_assert!(out.iter().zip(&wanted).all(|(o, w)| *o == w + w));
                let mut row = vec![0.0; inputs];
                packed.read_row(outputs - 1, &mut row);
                prop_assert_eq!(row, &weights[(outputs - 1) * inputs..]);
            }
        }
        Ok(())
    }

    /// Shapes that properties do not draw: 32 rows, which are laid out, and more than one chunk of inputs.
    #[test]
    fn products_of_many_rows_and_several_chunks_of_inputs_have_the_bits_of_the_definition() {
        for (rows, inputs) in [(32, 300), (33, 257), (1, 300), (40, 129), (32, 64)] {
            has_the_bits_of_the_definition(rows, 40, inputs, 96, 2, 7).unwrap();
        }
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(60))]
        #[test]
        fn every_kernel_gives_the_bits_of_the_definition(

            rows in 1usize..30, outputs in 1usize..150, inputs in 1usize..70, block in 1usize..80, cores in 1usize..4, seed in any::<u64>(),
        ) {
            has_the_bits_of_the_definition(rows, outputs, inputs, block, cores, seed)?;
        }
    }

    #[test]
    fn packing_several_matrices_puts_their_products_side_by_side() {
        let (a, b) = (values(1, 5 * 8), values(2, 20 * 8));
        let x = values(3, 8);
        let packed = PackedMatrix::pack(&[Dense::F32(&a), Dense::F32(&b)], 8);
        let mut out = vec![0.0; 25];
        packed.apply(Isa::detect(), &ThreadPool::new(1), &x, &mut out, Write::Replace);
        assert_eq!(out, [product(&x, &a, 8), product(&x, &b, 8)].concat());
        let mut row = vec![0.0; 8];
        packed.read_row(7, &mut row);
        assert_eq!(row, b[2 * 8..3 * 8]);
    }
}
