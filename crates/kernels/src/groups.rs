//! Activations times weights of 8 or 4 bits, in whole numbers.
//!
//! Weights share a scale, and perhaps a minimum, in groups along the inputs: w = scale · (n − offset), or w = scale · n +
//! minimum. A row of activations is rounded to 8 bits group by group ([`RoundedRows`]), so that a group's part of an output is a
//! sum of products of small whole numbers, which is exact in any order, times two scales. The groups' parts are added in their
//! order: results are the same bits on every instruction set and whatever the number of rows.

mod rounded;
mod tile;

use crate::cells::Cells;
use crate::isa::Isa;
use crate::sums::{Columns, Output, Write};
use crate::thread_pool::{Shared2d, ThreadPool};
use crate::tiling::share_panels;
use crate::vector::{BLOCK, QUAD};
use crate::{Aligned, LANES};

pub use rounded::RoundedRows;

/// How many bits a weight has.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Bits {
    /// Numbers from 0 to 255.
    Eight,
    /// Numbers from 0 to 15.
    Four,
}

impl Bits {
    /// Returns the number that stands for zero where there is no minimum.
    pub fn offset(self) -> u8 {
        match self {
            Bits::Eight => 128,
            Bits::Four => 8,
        }
    }

    /// Returns how many bytes so many numbers take.
    fn bytes(self, count: usize) -> usize {
        match self {
            Bits::Eight => count,
            Bits::Four => count / 2,
        }
    }
}

/// A matrix to be packed: rows of outputs, one number to a byte, with the scales of each output's groups.
#[derive(Clone, Copy)]
pub struct Groups<'a> {
    /// `[outputs, inputs]`.
    pub numbers: &'a [u8],
    /// `[outputs, groups]`.
    pub scales: &'a [f32],
    /// `[outputs, groups]`; without them a number's offset is taken away before it is scaled.
    pub minima: Option<&'a [f32]>,
}

/// A weight matrix `[outputs, inputs]` of 8 or 4 bits, packed for [`GroupMatrix::apply`].
pub struct GroupMatrix {
    outputs: usize,
    inputs: usize,
    bits: Bits,
    group: usize,
    /// Panel by panel, quad by quad, the quads' numbers for each lane; of 4 bits, two quads to a block, the first in the lower
    /// halves.
    numbers: Cells<u8>,
    /// Panel by panel, group by group, one for each lane.
    scales: Cells<f32>,
    minima: Option<Cells<f32>>,
}

/// The memory of a [`GroupMatrix`], to be kept and to be read again.
pub struct Parts {
    /// As packed.
    pub numbers: Cells<u8>,
    /// As packed.
    pub scales: Cells<f32>,
    /// As packed.
    pub minima: Option<Cells<f32>>,
}

impl GroupMatrix {
    /// Packs matrices that share their inputs, one below the other, as one: their products come side by side.
    ///
    /// # Panics
    /// When the lengths do not fit one another, when only some parts have minima, or when `group` is not a multiple of eight.
    pub fn pack(parts: &[Groups<'_>], inputs: usize, bits: Bits, group: usize) -> GroupMatrix {
        assert!(group > 0 && group.is_multiple_of(2 * QUAD), "groups of {group}");
        let groups = inputs.div_ceil(group);
        let rows: Vec<&[u8]> = parts
            .iter()
            .flat_map(|part| part.numbers.chunks_exact(inputs))
            .collect();
        let per_group = |values: &dyn Fn(&Groups<'_>) -> Option<Vec<f32>>| -> Option<Aligned<f32>> {
            let rows: Vec<f32> = parts.iter().map(values).collect::<Option<Vec<_>>>()?.concat();
            Some(lay_groups(&rows, groups))
        };
        let scales = per_group(&|part| Some(part.scales.to_vec())).expect("every part has scales");
        let minima = per_group(&|part| part.minima.map(<[f32]>::to_vec));
        let outputs = rows.len();
        assert!(
            minima.is_some() == parts.iter().any(|part| part.minima.is_some()),
            "all parts of one matrix have minima, or none"
        );
        let panels = outputs.div_ceil(LANES);
        assert!(
            scales.len() == panels * groups * LANES && minima.as_ref().is_none_or(|m| m.len() == scales.len()),
            "scales for each group"
        );
        let padded = groups * group;
        let mut numbers = Aligned::zeros(bits.bytes(panels * LANES * padded));
        for (panel, rows) in numbers
            .chunks_exact_mut(bits.bytes(LANES * padded))
            .zip(rows.chunks(LANES))
        {
            for (lane, row) in rows.iter().enumerate() {
                for (input, number) in row.iter().enumerate() {
                    let (quad, place) = (input / QUAD, lane * QUAD + input % QUAD);
                    match bits {
                        Bits::Eight => panel[quad * BLOCK + place] = *number,
                        Bits::Four => panel[quad / 2 * BLOCK + place] |= (number & 15) << (quad % 2 * 4),
                    }
                }
            }
        }
        let parts = Parts {
            numbers: numbers.into(),
            scales: scales.into(),
            minima: minima.map(Cells::from),
        };
        GroupMatrix::of_parts(parts, outputs, inputs, bits, group)
    }

    /// Returns a matrix over memory that another one was packed into.
    ///
    /// # Panics
    /// When the memory is not that of such a matrix.
    pub fn of_parts(parts: Parts, outputs: usize, inputs: usize, bits: Bits, group: usize) -> GroupMatrix {
        let (panels, groups) = (outputs.div_ceil(LANES), inputs.div_ceil(group));
        let scales = panels * groups * LANES;
        assert!(
            parts.numbers.len() == bits.bytes(panels * LANES * groups * group)
                && parts.scales.len() == scales
                && parts.minima.as_ref().is_none_or(|minima| minima.len() == scales),
            "the parts of a matrix of {outputs} by {inputs}"
        );
        GroupMatrix {
            outputs,
            inputs,
            bits,
            group,
            numbers: parts.numbers,
            scales: parts.scales,
            minima: parts.minima,
        }
    }

    /// Returns the number of outputs.
    pub fn outputs(&self) -> usize {
        self.outputs
    }

    /// Returns the number of inputs.
    pub fn inputs(&self) -> usize {
        self.inputs
    }

    /// Returns the bits of a weight.
    pub fn bits(&self) -> Bits {
        self.bits
    }

    /// Returns how many inputs share a scale.
    pub fn group(&self) -> usize {
        self.group
    }

    /// Returns the bytes that the packed weights take.
    pub fn bytes(&self) -> usize {
        size_of_val(&*self.numbers) + size_of_val(&*self.scales) + self.minima.as_ref().map_or(0, |m| size_of_val(&**m))
    }

    /// Returns the packed numbers, scales and minima.
    pub fn parts(&self) -> (&[u8], &[f32], Option<&[f32]>) {
        (&self.numbers, &self.scales, self.minima.as_deref())
    }

    /// Copies the weights of one output into `row`: an embedding, when the matrix is tied to the head.
    ///
    /// # Panics
    /// When there is no such output or `row` is not `inputs` long.
    pub fn read_row(&self, output: usize, row: &mut [f32]) {
        assert!(
            output < self.outputs && row.len() == self.inputs,
            "row {output} of {}",
            self.outputs
        );
        for (input, value) in row.iter_mut().enumerate() {
            let number = f32::from(self.number(output, input));
            let at = self.group_at(output, input / self.group);
            *value = match &self.minima {
                Some(minima) => self.scales[at] * number + minima[at],
                None => self.scales[at] * (number - f32::from(self.bits.offset())),
            };
        }
    }

    /// Returns numbers `[outputs, inputs]`, one to a byte, and scales and minima `[outputs, groups]`, as they were packed.
    pub fn unpack(&self) -> (Vec<u8>, Vec<f32>, Option<Vec<f32>>) {
        let numbers =
            (0..self.outputs).flat_map(|output| (0..self.inputs).map(move |input| self.number(output, input)));
        let of_groups = |values: &[f32]| -> Vec<f32> {
            let groups = 0..self.inputs.div_ceil(self.group);
            (0..self.outputs)
                .flat_map(|output| groups.clone().map(move |group| values[self.group_at(output, group)]))
                .collect()
        };
        (
            numbers.collect(),
            of_groups(&self.scales),
            self.minima.as_deref().map(of_groups),
        )
    }

    /// Returns the number of one weight.
    fn number(&self, output: usize, input: usize) -> u8 {
        let (panel, lane) = (output / LANES, output % LANES);
        let panel = panel * self.bits.bytes(LANES * self.inputs.div_ceil(self.group) * self.group);
        let (quad, place) = (input / QUAD, lane * QUAD + input % QUAD);
        match self.bits {
            Bits::Eight => self.numbers[panel + quad * BLOCK + place],
            Bits::Four => self.numbers[panel + quad / 2 * BLOCK + place] >> (quad % 2 * 4) & 15,
        }
    }

    /// Returns where the scale of an output's group lies.
    fn group_at(&self, output: usize, group: usize) -> usize {
        (output / LANES * self.inputs.div_ceil(self.group) + group) * LANES + output % LANES
    }

    /// Computes `out = x · weightsᵀ` (or adds it) for rows `x: [rows, inputs]`, `out: [rows, outputs]`; `rounded` is where the
    /// rows are rounded to.
    ///
    /// # Panics
    /// When the lengths of `x` and `out` do not fit one number of rows.
    pub fn apply(
        &self,
        isa: Isa,
        threads: &ThreadPool,
        rounded: &mut RoundedRows,
        x: &[f32],
        out: &mut [f32],
        write: Write,
    ) {
        let columns = Columns {
            stride: self.outputs,
            from: 0,
        };
        rounded.round(isa, threads, x, self.inputs, self.group);
        self.apply_beside(isa, threads, rounded, out, columns, write);
    }

    /// As [`GroupMatrix::apply`], with rows that were rounded before, in this matrix's groups, and outputs that lie beside
    /// others.
    ///
    /// # Panics
    /// As there, and when the rows were rounded for another matrix.
    pub fn apply_beside(
        &self,
        isa: Isa,
        threads: &ThreadPool,
        rounded: &RoundedRows,
        out: &mut [f32],
        columns: Columns,
        write: Write,
    ) {
        rounded.check(isa, self.inputs, self.group);
        columns.check(self.outputs, rounded.rows, out.len());
        if rounded.rows == 0 {
            return;
        }
        let shared = Shared2d::new(out);
        let call = tile::Call {
            matrix: self,
            rounded,
            output: Output {
                out: &shared,
                columns,
                outputs: self.outputs,
                write,
            },
        };
        share_panels(threads, self.outputs.div_ceil(LANES), rounded.rows, &|panels, space| {
            tile::walk(isa, &call, panels, space);
        });
    }
}

/// Lays values `[outputs, groups]` panel by panel, group by group, one for each lane; lanes without an output have zeros.
fn lay_groups(rows: &[f32], groups: usize) -> Aligned<f32> {
    let outputs = rows.len() / groups;
    let mut laid = Aligned::zeros(outputs.div_ceil(LANES) * groups * LANES);
    for (output, row) in rows.chunks_exact(groups).enumerate() {
        for (group, value) in row.iter().enumerate() {
            laid[(output / LANES * groups + group) * LANES + output % LANES] = *value;
        }
    }
    laid
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn random(seed: u64) -> impl FnMut() -> u64 {
        let mut state = seed;
        move || {
            state = state
                .wrapping_mul(6364136223846793005)
                .wrapping_add(1442695040888963407);
            state >> 33
        }
    }

    struct Case {
        numbers: Vec<u8>,
        scales: Vec<f32>,
        minima: Option<Vec<f32>>,
        x: Vec<f32>,
    }

    impl Case {
        fn groups(&self) -> Groups<'_> {
            Groups {
                numbers: &self.numbers,
                scales: &self.scales,
                minima: self.minima.as_deref(),
            }
        }
    }

    fn case(rows: usize, outputs: usize, inputs: usize, bits: Bits, group: usize, least: bool, seed: u64) -> Case {
        let mut next = random(seed);
        let most = if bits == Bits::Eight { 256 } else { 16 };
        let groups = outputs * inputs.div_ceil(group);
        let mut float = |count: usize, scale: f32| -> Vec<f32> {
            (0..count)
                .map(|_| (next() as f32 / (1u64 << 30) as f32 - 1.0) * scale)
                .collect()
        };
        let (scales, minima, x) = (float(groups, 0.1), float(groups, 1.0), float(rows * inputs, 3.0));
        Case {
            numbers: (0..outputs * inputs).map(|_| (next() % most) as u8).collect(),
            scales,
            minima: least.then_some(minima),
            x,
        }
    }

    /// Compares a product of random numbers with that of the widened weights, and among all instructions.
    fn is_the_same_everywhere(
        [rows, outputs, inputs]: [usize; 3],
        group: usize,
        bits: Bits,
        least: bool,
        cores: usize,
        seed: u64,
    ) -> Result<(), TestCaseError> {
        let case = case(rows, outputs, inputs, bits, group, least, seed);
        let matrix = GroupMatrix::pack(&[case.groups()], inputs, bits, group);
        let mut rounded = RoundedRows::default();
        let mut scalar = vec![f32::NAN; rows * outputs];
        matrix.apply(
            Isa::PORTABLE,
            &ThreadPool::new(1),
            &mut rounded,
            &case.x,
            &mut scalar,
            Write::Replace,
        );
        let mut weights = vec![0.0f32; inputs];
        for output in 0..outputs {
            matrix.read_row(output, &mut weights);
            for (input, weight) in weights.iter().enumerate() {
                let at = output * inputs.div_ceil(group) + input / group;
                let number = f32::from(case.numbers[output * inputs + input]);
                let wanted = match &case.minima {
                    Some(minima) => case.scales[at] * number + minima[at],
                    None => case.scales[at] * (number - f32::from(bits.offset())),
                };
                prop_assert_eq!(*weight, wanted);
            }
            for row in 0..rows {
                let x = &case.x[row * inputs..(row + 1) * inputs];
                let exact: f64 = x.iter().zip(&weights).map(|(x, w)| f64::from(*x) * f64::from(*w)).sum();
                // Rounding moves each activation by half a step of 1/127 of the largest, 3.
                let most: f64 = weights.iter().map(|w| f64::from(w.abs())).sum::<f64>() * 3.0 / 127.0 * 0.51 + 1e-3;
                prop_assert!((f64::from(scalar[row * outputs + output]) - exact).abs() <= most);
            }
        }
        for isa in Isa::available() {
            let threads = ThreadPool::new(cores);
            let mut apply =
                |x: &[f32], out: &mut [f32], write| matrix.apply(isa, &threads, &mut rounded, x, out, write);
            let mut out = vec![f32::NAN; rows * outputs];
            apply(&case.x, &mut out, Write::Replace);
            prop_assert_eq!(&out, &scalar, "{:?}", isa);
            // A row alone has the same bits.
            let mut alone = vec![f32::NAN; outputs];
            apply(&case.x[..inputs], &mut alone, Write::Replace);
            prop_assert_eq!(&alone[..], &scalar[..outputs]);
            apply(&case.x, &mut out, Write::Add);
            prop_assert!(out.iter().zip(&scalar).all(|(out, once)| *out == once + once));
        }
        Ok(())
    }

    /// Shapes that properties do not draw: 32 rows and more than one chunk of inputs.
    #[test]
    fn products_of_many_rows_and_several_chunks_of_inputs_are_the_same_everywhere() {
        for (rows, inputs, group) in [(32, 1_100, 64), (33, 520, 32), (1, 1_100, 128), (40, 640, 128)] {
            for bits in [Bits::Four, Bits::Eight] {
                is_the_same_everywhere([rows, 40, inputs], group, bits, bits == Bits::Four, 2, 7).unwrap();
            }
        }
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(80))]
        #[test]
        fn products_are_the_same_bits_everywhere_and_near_those_of_the_widened_weights(

            rows in 1usize..20, outputs in 1usize..60, inputs in 1usize..200, group in prop::sample::select(vec![16, 32, 64, 128]),
            eight: bool, least: bool, cores in 1usize..4, seed in any::<u64>(),
        ) {
            let bits = if eight { Bits::Eight } else { Bits::Four };
            is_the_same_everywhere([rows, outputs, inputs], group, bits, least, cores, seed)?;
        }
    }

    #[test]
    fn packing_several_matrices_puts_their_products_side_by_side() {
        let (a, b) = (
            case(1, 5, 32, Bits::Four, 32, true, 1),
            case(1, 20, 32, Bits::Four, 32, true, 2),
        );
        let part = |case: &Case| -> Vec<f32> {
            let matrix = GroupMatrix::pack(&[case.groups()], 32, Bits::Four, 32);
            let mut out = vec![0.0; matrix.outputs()];
            matrix.apply(
                Isa::detect(),
                &ThreadPool::new(1),
                &mut RoundedRows::default(),
                &a.x,
                &mut out,
                Write::Replace,
            );
            out
        };
        let matrix = GroupMatrix::pack(&[a.groups(), b.groups()], 32, Bits::Four, 32);
        let mut out = vec![0.0; 25];
        matrix.apply(
            Isa::detect(),
            &ThreadPool::new(1),
            &mut RoundedRows::default(),
            &a.x,
            &mut out,
            Write::Replace,
        );
        assert_eq!(out, [part(&a), part(&b)].concat());
    }
}
