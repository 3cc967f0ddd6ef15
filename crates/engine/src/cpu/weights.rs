//! Matrices in the precisions that execute.

use half::bf16;
use std::str::FromStr;
use vastrelay_kernels::groups::{Bits, GroupMatrix, Groups, RoundedRows};
use vastrelay_kernels::matmul::{Columns, Dense};
use vastrelay_kernels::{Isa, PackedMatrix, Pool, Write};
use vastrelay_weights::checkpoint::Kind;
use vastrelay_weights::{GroupWeights, Matrix, Tensor};

/// What weights are turned into when they are loaded.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Precision {
    /// The nearest that executes and loses nothing.
    #[default]
    AsStored,
    /// 32-bit floats.
    F32,
    /// Brain floats.
    Bf16,
    /// Small numbers in groups that share a scale.
    Groups {
        /// Bits of a number.
        bits: Bits,
        /// Inputs that share a scale.
        group: usize,
    },
}

impl Precision {
    /// Returns its name, with the group size where it has one.
    pub fn name(self) -> String {
        match self {
            Precision::AsStored => "as-stored".into(),
            Precision::F32 => "f32".into(),
            Precision::Bf16 => "bf16".into(),
            Precision::Groups { bits, group } => {
                let name = if bits == Bits::Eight { "int8" } else { "int4" };
                format!("{name}, groups of {group}")
            }
        }
    }

    /// Returns the precision of embeddings and head: what has groups keeps them as they are stored.
    pub fn of_embeddings(self) -> Precision {
        match self {
            Precision::Groups { .. } => Precision::AsStored,
            other => other,
        }
    }
}

impl Precision {
    /// Returns the bytes of so many weights that are stored as one kind.
    pub(super) fn bytes(self, kind: Kind, elements: usize) -> usize {
        let kind = match (self, kind) {
            (Precision::AsStored, kind) => kind,
            (Precision::F32, _) => Kind::F32,
            (Precision::Bf16, _) => Kind::Bf16,
            (
                Precision::Groups { bits, group },
                Kind::Groups {
                    bits: b,
                    group: g,
                    minima,
                },
            ) if (bits, group) == (b, g) => Kind::Groups { bits, group, minima },
            (Precision::Groups { bits, group }, _) => Kind::Groups {
                bits,
                group,
                minima: bits == Bits::Four,
            },
        };
        match kind {
            Kind::F32 => 4 * elements,
            Kind::Bf16 => 2 * elements,
            Kind::Groups { bits, group, minima } => {
                let numbers = if bits == Bits::Eight { elements } else { elements / 2 };
                numbers + elements.div_ceil(group) * size_of::<f32>() * (1 + usize::from(minima))
            }
        }
    }
}

/// The name of a precision without its group size.
impl FromStr for Precision {
    type Err = String;

    fn from_str(name: &str) -> Result<Precision, String> {
        match name {
            "as-stored" => Ok(Precision::AsStored),
            "f32" => Ok(Precision::F32),
            "bf16" => Ok(Precision::Bf16),
            "int8" => Ok(Precision::Groups {
                bits: Bits::Eight,
                group: 32,
            }),
            "int4" => Ok(Precision::Groups {
                bits: Bits::Four,
                group: 32,
            }),
            other => Err(format!("`{other}` is none of as-stored, f32, bf16, int8 and int4")),
        }
    }
}

/// A matrix that executes.
pub(super) enum Weights {
    Floats(PackedMatrix),
    Groups(GroupMatrix),
}

impl Weights {
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
}

/// Matrices that share their inputs; their outputs lie side by side.
pub(super) struct Joined(Vec<Weights>);

impl Joined {
    /// Packs matrices in a precision: as few as their kinds allow.
    pub fn pack(matrices: Vec<Matrix<'_>>, inputs: usize, precision: Precision) -> Joined {
        let converted = matrices.into_iter().map(|matrix| convert(matrix, inputs, precision));
        let mut runs: Vec<Vec<Matrix<'_>>> = Vec::new();
        for matrix in converted {
            match runs.last_mut() {
                Some(run) if alike(&run[0], &matrix) => run.push(matrix),
                _ => runs.push(vec![matrix]),
            }
        }
        Joined(runs.iter().map(|run| pack(run, inputs)).collect())
    }

    pub fn bytes(&self) -> usize {
        self.0.iter().map(Weights::bytes).sum()
    }

    pub fn inputs(&self) -> usize {
        self.0[0].inputs()
    }

    pub fn outputs(&self) -> usize {
        self.0.iter().map(Weights::outputs).sum()
    }

    /// Copies the weights of one output into `row`.
    pub fn read_row(&self, output: usize, row: &mut [f32]) {
        let mut output = output;
        for weights in &self.0 {
            if output < weights.outputs() {
                return weights.read_row(output, row);
            }
            output -= weights.outputs();
        }
        panic!("a row beyond the last");
    }

    /// Computes `out = x · weightsᵀ`, or adds it.
    pub fn apply(&self, isa: Isa, pool: &Pool, rounded: &mut RoundedRows, x: &[f32], out: &mut [f32], write: Write) {
        let mut columns = Columns {
            stride: self.outputs(),
            from: 0,
        };
        let mut rounded_to = None;
        for weights in &self.0 {
            match weights {
                Weights::Floats(matrix) => matrix.apply_beside(isa, pool, x, out, columns, write),
                Weights::Groups(matrix) => {
                    if rounded_to != Some(matrix.group()) {
                        rounded.round(isa, x, matrix.inputs(), matrix.group());
                        rounded_to = Some(matrix.group());
                    }
                    matrix.apply_beside(isa, pool, rounded, out, columns, write);
                }
            }
            columns.from += weights.outputs();
        }
    }
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
                Matrix::Floats(_) => unreachable!("the matrices are of one kind"),
            })
            .collect();
        return Weights::Groups(GroupMatrix::pack(&parts, inputs, first.bits, first.group));
    }
    let parts: Vec<Dense<'_>> = run
        .iter()
        .map(|matrix| match matrix {
            Matrix::Floats(Tensor::F32(values)) => Dense::F32(values),
            Matrix::Floats(Tensor::Bf16(values)) => Dense::Bf16(values),
            Matrix::Groups(_) => unreachable!("the matrices are of one kind"),
        })
        .collect();
    Weights::Floats(PackedMatrix::pack(&parts, inputs))
}
