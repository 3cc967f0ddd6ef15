//! Matrix products alone, by shape and number of rows.

use crate::Machine;
use crate::alternate::{Gauge, Subject, alternate};
use crate::report::{Cell, Report};
use crate::statistics::median;
use anyhow::Result;
use half::{bf16, f16};
use std::time::Instant;
use vastrelay_kernels::groups::{Bits, GroupMatrix, Groups, RoundedRows};
use vastrelay_kernels::matmul::{Dense, PackedMatrix};
use vastrelay_kernels::{ThreadPool, Write};

/// Outputs and inputs of all matrices of a layer of 1.1 billion parameters.
const LAYER: [(usize, usize); 4] = [(2_560, 2_048), (2_048, 2_048), (11_264, 2_048), (2_048, 5_632)];
const GROUP: usize = 32;

/// The matrices of a layer in a precision.
struct Layer {
    name: &'static str,
    aim: Option<f64>,
    floats: Vec<PackedMatrix>,
    groups: Vec<GroupMatrix>,
    rounded: RoundedRows,
}

impl Layer {
    fn all() -> Vec<Layer> {
        let layer = |name, aim| Layer {
            name,
            aim,
            floats: Vec::new(),
            groups: Vec::new(),
            rounded: RoundedRows::default(),
        };
        let mut layers = [
            layer("f32", Some(0.7)),
            layer("bf16", Some(0.7)),
            layer("int8", Some(1.3)),
            layer("int4", Some(1.1)),
            layer("f16", None),
            layer("fp8", None),
        ];
        for (outputs, inputs) in LAYER {
            let wide: Vec<f32> = (0..outputs * inputs).map(|at| (at % 97) as f32 / 97.0 - 0.5).collect();
            let narrow: Vec<bf16> = wide.iter().map(|value| bf16::from_f32(*value)).collect();
            let half: Vec<f16> = wide.iter().map(|value| f16::from_f32(*value)).collect();
            let numbers: Vec<u8> = (0..outputs * inputs).map(|at| (at * 31 % 251) as u8).collect();
            let scales = vec![0.01; outputs * inputs / GROUP];
            let minima = vec![-0.1; scales.len()];
            let groups = |minima| Groups {
                numbers: &numbers,
                scales: &scales,
                minima,
            };
            layers[0].floats.push(PackedMatrix::pack(&[Dense::F32(&wide)], inputs));
            layers[1]
                .floats
                .push(PackedMatrix::pack(&[Dense::Bf16(&narrow)], inputs));
            layers[2]
                .groups
                .push(GroupMatrix::pack(&[groups(None)], inputs, Bits::Eight, GROUP));
            layers[3]
                .groups
                .push(GroupMatrix::pack(&[groups(Some(&minima))], inputs, Bits::Four, GROUP));
            layers[4].floats.push(PackedMatrix::pack(&[Dense::F16(&half)], inputs));
            let eights = Dense::F8 {
                numbers: &numbers.iter().map(|number| 8 + number % 119).collect::<Vec<u8>>(),
                scales: &vec![0.01; outputs * inputs / 128],
                block: 128,
            };
            layers[5].floats.push(PackedMatrix::pack(&[eights], inputs));
        }
        layers.into()
    }

    /// Multiplies all matrices with as many rows; returns the seconds.
    fn apply(&mut self, machine: Machine, threads: &ThreadPool, rows: usize, x: &[f32], out: &mut [f32]) -> f64 {
        let begun = Instant::now();
        for matrix in &self.floats {
            let (x, out) = (&x[..rows * matrix.inputs()], &mut out[..rows * matrix.outputs()]);
            matrix.apply(machine.isa, threads, x, out, Write::Replace);
        }
        for matrix in &self.groups {
            let (x, out) = (&x[..rows * matrix.inputs()], &mut out[..rows * matrix.outputs()]);
            matrix.apply(machine.isa, threads, &mut self.rounded, x, out, Write::Replace);
        }
        begun.elapsed().as_secs_f64()
    }
}

/// Measures products of several numbers of rows in all precisions against the peak of 32-bit floats.
pub fn measure(machine: Machine, threads: &ThreadPool, report: &mut Report) -> Result<()> {
    let gauge = Gauge::new(machine);
    let mut layers = Layer::all();
    let widest = LAYER.iter().map(|(outputs, _)| *outputs).max().unwrap_or(0);
    let longest = LAYER.iter().map(|(_, inputs)| *inputs).max().unwrap_or(0);
    let products: usize = LAYER.iter().map(|(outputs, inputs)| outputs * inputs).sum();
    for rows in [1, 8, 32, 128, 512] {
        eprintln!("products alone, {rows} rows");
        let x: Vec<f32> = (0..rows * longest).map(|at| (at as f32 * 0.37).sin()).collect();
        let mut subjects: Vec<Subject<'_>> = layers
            .iter_mut()
            .map(|layer| {
                let (x, mut out) = (&x, vec![0.0; rows * widest]);
                Box::new(move || layer.apply(machine, threads, rows, x, &mut out)) as Subject<'_>
            })
            .collect();
        let outcome = alternate(&gauge, machine.rounds, &mut subjects);
        drop(subjects);
        for (layer, seconds) in layers.iter().zip(&outcome.seconds) {
            let peak = 2.0 * (rows * products) as f64 / outcome.limits.multiply_add;
            report.add(Cell {
                model: "a layer of 1.1B".into(),
                work: format!("products, {rows} rows"),
                subject: layer.name.to_owned(),
                against: "peak of f32".into(),
                aim: layer.aim.filter(|_| rows == 512),
                must_hold: None,
                subject_seconds: median(seconds),
                against_seconds: peak,
                ratios: seconds.iter().map(|seconds| peak / seconds).collect(),
                drifted: outcome.drifted,
                phases: Vec::new(),
            });
        }
    }
    Ok(())
}
