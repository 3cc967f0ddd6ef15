//! Matrices in the precisions that execute.

use super::grams::Grams;
use half::bf16;
use std::collections::BTreeMap;
use std::ops::Range;
use vastrelay_kernels::groups::{Bits, GroupMatrix, Groups, Parts, RoundedRows};
use vastrelay_kernels::matmul::{Dense, Panels, Unpacked};
use vastrelay_kernels::{Columns, Isa, LANES, PackedMatrix, ThreadPool, Write};
use vastrelay_weights::Kind;
use vastrelay_weights::build::{Dtype, MatrixFacts, Written};
use vastrelay_weights::{Build, Float8Weights, GroupWeights, Matrix, Precision, Tensor, WeightsError};

/// Returns the bytes of so many weights that are stored as one kind.
pub(super) fn bytes_in(precision: Precision, kind: Kind, weights: usize) -> usize {
    kind.in_precision(precision).bytes(weights, size_of::<f32>())
}

/// Rows that are multiplied.
pub(super) enum Rows<'a> {
    /// They are there.
    Ready(&'a [f32]),
    /// They are there, and were rounded for the first matrix as they were made, if it wants that.
    Rounded(&'a [f32]),
    /// They are made now: `make` is called with some of them and the number of the first. Where they have to be rounded, that follows at
    /// once.
    Made {
        rows: &'a mut [f32],
        make: &'a (dyn Fn(usize, &mut [f32]) + Sync),
    },
}

impl Rows<'_> {
    /// Returns how many values there are.
    pub fn values(&self) -> usize {
        match self {
            Rows::Ready(rows) | Rows::Rounded(rows) => rows.len(),
            Rows::Made { rows, .. } => rows.len(),
        }
    }
}

/// What products need beside their inputs and outputs.
#[derive(Default)]
pub(super) struct Scratch {
    /// Rows as matrices of small numbers want them.
    pub rounded: RoundedRows,
    /// Input statistics; present only during calibration.
    pub grams: Option<Grams>,
}

/// A matrix that executes.
pub(super) enum Weights {
    Floats(PackedMatrix),
    Groups(GroupMatrix),
}

impl Weights {
    fn read(name: &str, build: &Build, facts: &MatrixFacts) -> Result<Weights, WeightsError> {
        let MatrixFacts { outputs, inputs, .. } = *facts;
        let panels = outputs.div_ceil(LANES);
        let (Some(bits), Some(group)) = (facts.bits, facts.group) else {
            let (values, len) = (format!("{name}.values"), panels * LANES * inputs);
            let panels = match (facts.group, build.dtype(&values)?) {
                (Some(block), _) => Panels::F8 {
                    numbers: build.f8(&values, len)?,
                    scales: build.f32(
                        &format!("{name}.scales"),
                        panels * LANES * inputs.div_ceil(block.max(1)),
                    )?,
                    block: block.max(1),
                },
                (None, Dtype::BF16) => Panels::Bf16(build.bf16(&values, len)?),
                (None, Dtype::F16) => Panels::F16(build.f16(&values, len)?),
                (None, _) => Panels::F32(build.f32(&values, len)?),
            };
            return Ok(Weights::Floats(PackedMatrix::of_panels(panels, outputs, inputs)));
        };
        let bits = if bits == 8 { Bits::Eight } else { Bits::Four };
        let groups = inputs.div_ceil(group.max(1));
        let scales = panels * LANES * groups;
        let numbers = panels * LANES * groups * group;
        let minima = format!("{name}.minima");
        let parts = Parts {
            numbers: build.u8(
                &format!("{name}.numbers"),
                if bits == Bits::Eight { numbers } else { numbers / 2 },
            )?,
            scales: build.f32(&format!("{name}.scales"), scales)?,
            minima: match build.has(&minima) {
                true => Some(build.f32(&minima, scales)?),
                false => None,
            },
        };
        Ok(Weights::Groups(GroupMatrix::of_parts(
            parts, outputs, inputs, bits, group,
        )))
    }

    fn write<'a>(&'a self, name: &str, tensors: &mut BTreeMap<String, Written<'a>>) -> MatrixFacts {
        let mut facts = MatrixFacts {
            outputs: self.outputs(),
            inputs: self.inputs(),
            bits: None,
            group: None,
        };
        match self {
            Weights::Floats(matrix) => {
                let values = match matrix.panels() {
                    Panels::F32(values) => Written::F32(values),
                    Panels::Bf16(values) => Written::Bf16(values),
                    Panels::F16(values) => Written::F16(values),
                    Panels::F8 { numbers, scales, block } => {
                        facts.group = Some(*block);
                        tensors.insert(format!("{name}.scales"), Written::F32(scales));
                        Written::F8(numbers)
                    }
                };
                tensors.insert(format!("{name}.values"), values);
            }
            Weights::Groups(matrix) => {
                facts.bits = Some(if matrix.bits() == Bits::Eight { 8 } else { 4 });
                facts.group = Some(matrix.group());
                let (numbers, scales, minima) = matrix.parts();
                tensors.insert(format!("{name}.numbers"), Written::U8(numbers));
                tensors.insert(format!("{name}.scales"), Written::F32(scales));
                if let Some(minima) = minima {
                    tensors.insert(format!("{name}.minima"), Written::F32(minima));
                }
            }
        }
        facts
    }

    pub fn outputs(&self) -> usize {
        match self {
            Weights::Floats(matrix) => matrix.outputs(),
            Weights::Groups(matrix) => matrix.outputs(),
        }
    }

    pub fn inputs(&self) -> usize {
        match self {
            Weights::Floats(matrix) => matrix.inputs(),
            Weights::Groups(matrix) => matrix.inputs(),
        }
    }

    pub fn bytes(&self) -> usize {
        match self {
            Weights::Floats(matrix) => matrix.bytes(),
            Weights::Groups(matrix) => matrix.bytes(),
        }
    }

    pub fn read_row(&self, output: usize, row: &mut [f32]) {
        match self {
            Weights::Floats(matrix) => matrix.read_row(output, row),
            Weights::Groups(matrix) => matrix.read_row(output, row),
        }
    }

    fn unpack(&self) -> Matrix<'static> {
        match self {
            Weights::Groups(matrix) => Matrix::Groups(GroupWeights::of_packed(matrix)),
            Weights::Floats(matrix) => match matrix.unpack() {
                Unpacked::F32(values) => Matrix::Floats(Tensor::F32(values.into())),
                Unpacked::Bf16(values) => Matrix::Floats(Tensor::Bf16(values.into())),
                Unpacked::F16(values) => Matrix::Floats(Tensor::F16(values.into())),
                Unpacked::F8 { numbers, scales, block } => Matrix::F8(Float8Weights {
                    inputs: matrix.inputs(),
                    block,
                    numbers: numbers.into(),
                    scales,
                }),
            },
        }
    }
}

/// Matrices that share their inputs; their outputs lie side by side.
pub(super) struct Joined {
    /// What it is called in a build.
    pub name: String,
    weights: Vec<Weights>,
}

impl Joined {
    /// Reads what was packed before.
    ///
    /// # Errors
    /// When the build does not have it, or not as it has to be.
    pub fn read(name: String, build: &Build, inputs: usize, outputs: usize) -> Result<Joined, WeightsError> {
        let facts = build.matrix(&name)?;
        let found: Vec<usize> = facts.iter().flat_map(|facts| [facts.outputs, facts.inputs]).collect();
        if facts.iter().map(|facts| facts.outputs).sum::<usize>() != outputs || facts.iter().any(|f| f.inputs != inputs)
        {
            return Err(WeightsError::Shape {
                name,
                found,
                wanted: vec![outputs, inputs],
            });
        }
        let weights = facts
            .iter()
            .enumerate()
            .map(|(part, facts)| Weights::read(&format!("{name}.{part}"), build, facts))
            .collect::<Result<Vec<Weights>, WeightsError>>()?;
        Ok(Joined { name, weights })
    }

    /// Returns the matrices as they were before they were packed, and how many outputs each has.
    pub fn unpack(&self) -> (Vec<Matrix<'static>>, Vec<usize>) {
        self.weights
            .iter()
            .map(|weights| (weights.unpack(), weights.outputs()))
            .unzip()
    }

    /// Adds its memory to what is to be written; returns how it lies there.
    pub fn write<'a>(&'a self, tensors: &mut BTreeMap<String, Written<'a>>) -> Vec<MatrixFacts> {
        let parts = self.weights.iter().enumerate();
        parts
            .map(|(part, weights)| weights.write(&format!("{}.{part}", self.name), tensors))
            .collect()
    }

    /// Packs matrices in a precision: as few as their kinds allow.
    pub fn pack(name: String, matrices: Vec<Matrix<'_>>, inputs: usize, precision: Precision) -> Joined {
        let converted = matrices.into_iter().map(|matrix| convert(matrix, inputs, precision));
        let mut runs: Vec<Vec<Matrix<'_>>> = Vec::new();
        for matrix in converted {
            match runs.last_mut() {
                Some(run) if alike(&run[0], &matrix) => run.push(matrix),
                _ => runs.push(vec![matrix]),
            }
        }
        Joined {
            name,
            weights: runs.iter().map(|run| pack(run, inputs)).collect(),
        }
    }

    pub fn bytes(&self) -> usize {
        self.weights.iter().map(Weights::bytes).sum()
    }

    pub fn inputs(&self) -> usize {
        self.weights[0].inputs()
    }

    pub fn outputs(&self) -> usize {
        self.weights.iter().map(Weights::outputs).sum()
    }

    /// Returns the groups to which rows are rounded for the first matrix, where it wants that.
    pub fn group(&self) -> Option<usize> {
        match &self.weights[0] {
            Weights::Floats(_) => None,
            Weights::Groups(matrix) => Some(matrix.group()),
        }
    }

    /// Copies the weights of one output into `row`.
    pub fn read_row(&self, output: usize, row: &mut [f32]) {
        let mut output = output;
        for weights in &self.weights {
            if output < weights.outputs() {
                return weights.read_row(output, row);
            }
            output -= weights.outputs();
        }
        panic!("a row beyond the last");
    }

    /// Computes `out = x · weightsᵀ`, or adds it.
    pub fn apply(
        &self,
        isa: Isa,
        threads: &ThreadPool,
        scratch: &mut Scratch,
        x: Rows<'_>,
        out: &mut [f32],
        write: Write,
    ) {
        let mut rounded_to = None;
        let x = match x {
            Rows::Ready(rows) => rows,
            Rows::Rounded(rows) => {
                rounded_to = self.group();
                rows
            }
            Rows::Made { rows, make } => {
                match &self.weights[0] {
                    Weights::Floats(matrix) => threads.rows(rows, matrix.inputs(), make),
                    Weights::Groups(matrix) => {
                        let (inputs, group) = (matrix.inputs(), matrix.group());
                        scratch.rounded.round_made(isa, threads, rows, inputs, group, make);
                        rounded_to = Some(group);
                    }
                }
                rows
            }
        };
        if let Some(grams) = &mut scratch.grams {
            grams.take(&self.name, isa, threads, x, self.inputs());
        }
        let rounded = &mut scratch.rounded;
        let mut columns = Columns {
            stride: self.outputs(),
            from: 0,
        };
        for weights in &self.weights {
            match weights {
                Weights::Floats(matrix) => matrix.apply_beside(isa, threads, x, out, columns, write),
                Weights::Groups(matrix) => {
                    if rounded_to != Some(matrix.group()) {
                        rounded.round(isa, threads, x, matrix.inputs(), matrix.group());
                        rounded_to = Some(matrix.group());
                    }
                    matrix.apply_beside(isa, threads, rounded, out, columns, write);
                }
            }
            columns.from += weights.outputs();
        }
    }
}

/// Returns the parts of matrices that lie one below the other: some of all their outputs, and of these some inputs.
pub(super) fn cut(
    matrices: &[Matrix<'_>],
    heights: &[usize],
    inputs: usize,
    outputs: &[Range<usize>],
    columns: &Range<usize>,
) -> Vec<Matrix<'static>> {
    let mut top = 0;
    let mut parts = Vec::new();
    for (matrix, height) in matrices.iter().zip(heights) {
        let within = |range: &Range<usize>| range.start.max(top) - top..range.end.clamp(top, top + height) - top;
        let mine: Vec<Range<usize>> = outputs.iter().map(within).filter(|range| !range.is_empty()).collect();
        if !mine.is_empty() {
            parts.push(matrix.part(inputs, &mine, columns.clone()));
        }
        top += height;
    }
    parts
}

/// Turns a matrix into a precision; what is in it already stays as it is.
fn convert(matrix: Matrix<'_>, inputs: usize, precision: Precision) -> Matrix<'_> {
    match (precision, matrix) {
        (Precision::AsStored, matrix) => matrix,
        (Precision::F32, matrix) => Matrix::Floats(Tensor::F32(matrix.to_f32().into())),
        (Precision::Bf16, Matrix::Floats(Tensor::Bf16(values))) => Matrix::Floats(Tensor::Bf16(values)),
        (Precision::Bf16, matrix) => {
            let values: Vec<bf16> = matrix.to_f32().into_iter().map(bf16::from_f32).collect();
            Matrix::Floats(Tensor::Bf16(values.into()))
        }
        (Precision::Groups { bits, group }, Matrix::Groups(groups)) if (groups.bits, groups.group) == (bits, group) => {
            Matrix::Groups(groups)
        }
        (Precision::Groups { bits, group }, matrix) => {
            Matrix::Groups(GroupWeights::round(&matrix.to_f32(), inputs, bits, group))
        }
    }
}

fn alike(one: &Matrix<'_>, other: &Matrix<'_>) -> bool {
    match (one, other) {
        (Matrix::Floats(Tensor::F32(_)), Matrix::Floats(Tensor::F32(_))) => true,
        (Matrix::Floats(Tensor::Bf16(_)), Matrix::Floats(Tensor::Bf16(_))) => true,
        (Matrix::Floats(Tensor::F16(_)), Matrix::Floats(Tensor::F16(_))) => true,
        (Matrix::F8(one), Matrix::F8(other)) => one.block == other.block,
        (Matrix::Groups(one), Matrix::Groups(other)) => one.is_like(other),
        _ => false,
    }
}

/// Packs matrices of one kind as one.
fn pack(run: &[Matrix<'_>], inputs: usize) -> Weights {
    if let Matrix::Groups(first) = &run[0] {
        let parts: Vec<Groups<'_>> = run
            .iter()
            .map(|matrix| match matrix {
                Matrix::Groups(groups) => groups.parts(),
                _ => unreachable!("the matrices are of one kind"),
            })
            .collect();
        return Weights::Groups(GroupMatrix::pack(&parts, inputs, first.bits, first.group));
    }
    let parts: Vec<Dense<'_>> = run
        .iter()
        .map(|matrix| match matrix {
            Matrix::Floats(Tensor::F32(values)) => Dense::F32(values),
            Matrix::Floats(Tensor::Bf16(values)) => Dense::Bf16(values),
            Matrix::Floats(Tensor::F16(values)) => Dense::F16(values),
            Matrix::F8(weights) => Dense::F8 {
                numbers: &weights.numbers,
                scales: &weights.scales,
                block: weights.block,
            },
            Matrix::Groups(_) => unreachable!("the matrices are of one kind"),
        })
        .collect();
    Weights::Floats(PackedMatrix::pack(&parts, inputs))
}
