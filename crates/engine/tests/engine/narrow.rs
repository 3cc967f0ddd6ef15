//! Checkpoints in half-precision and in 8-bit floats run as they are stored.

use crate::support::demo;
use half::{bf16, f16};
use safetensors::SafeTensors;
use safetensors::tensor::{Dtype, TensorView, serialize_to_file};
use serde_json::{Value, json};
use std::path::Path;
use vastrelay_engine::cpu::{BuildOrder, CpuSettings, Rounded, build};
use vastrelay_engine::executor::{BatchRow, StepBatch, TableChange, Want, run_step};
use vastrelay_engine::{CpuExecutor, Executor};
use vastrelay_kernels::Isa;
use vastrelay_kernels::attention::KvPrecision;
use vastrelay_weights::{Build, Checkpoint, ModelDescription, Precision, Precisions};

/// A tensor of the demo model.
struct Demo {
    name: String,
    shape: Vec<usize>,
    values: Vec<f32>,
}

impl Demo {
    fn all() -> Vec<Demo> {
        let files = [1, 2].map(|part| demo().join(format!("model-0000{part}-of-00002.safetensors")));
        let read = |path| {
            let bytes = std::fs::read(path).unwrap();
            let tensors = SafeTensors::deserialize(&bytes).unwrap();
            let tensor = |(name, view): (String, TensorView<'_>)| {
                let pairs = view.data().as_chunks::<2>().0.iter();
                Demo {
                    name,
                    shape: view.shape().to_vec(),
                    values: pairs.map(|pair| bf16::from_le_bytes(*pair).to_f32()).collect(),
                }
            };
            tensors.tensors().into_iter().map(tensor).collect::<Vec<Demo>>()
        };
        files.into_iter().flat_map(read).collect()
    }

    /// Whether it is one of a layer's matrices.
    fn is_of_layer(&self) -> bool {
        self.shape.len() == 2 && self.name.contains("layers")
    }

    fn floats(&self, values: &[f32]) -> Stored {
        let bytes = values.iter().flat_map(|value| value.to_le_bytes()).collect();
        (self.name.clone(), Dtype::F32, self.shape.clone(), bytes)
    }
}

type Stored = (String, Dtype, Vec<usize>, Vec<u8>);

/// Writes a model of the demo's shape with other tensors.
fn write(folder: &Path, quantization: &Value, tensors: &[Stored]) {
    let mut config: Value = serde_json::from_slice(&std::fs::read(demo().join("config.json")).unwrap()).unwrap();
    config["quantization_config"] = quantization.clone();
    std::fs::write(folder.join("config.json"), config.to_string()).unwrap();
    let views = tensors
        .iter()
        .map(|(name, dtype, shape, bytes)| (name, TensorView::new(*dtype, shape.clone(), bytes).unwrap()));
    serialize_to_file(views, None, &folder.join("model.safetensors")).unwrap();
}

fn settings(weights: Precision, split: usize) -> CpuSettings {
    CpuSettings {
        isa: Isa::detect(),
        cores: 2,
        spinning: Default::default(),
        split,
        context: 64,
        step_tokens: 64,
        width: 16,
        pages: vec![4],
        weights,
        kv: KvPrecision::F32,
    }
}

/// The logits of a few tokens.
fn logits(executor: &mut CpuExecutor) -> Vec<f32> {
    let row = BatchRow {
        tokens: vec![3, 9, 27, 81, 243].into(),
        drafts: 0,
        start: 0,
        slot: 0,
        tables: TableChange::all([vec![0]]),
        whole: None,
        want: Want::Logits,
        logprobs: None,
    };
    let batch = StepBatch {
        copies: Vec::new(),
        rows: vec![row],
    };
    run_step(executor, batch).unwrap().rows.remove(0).logits
}

fn load(folder: &Path, weights: Precision, split: usize) -> CpuExecutor {
    let description = ModelDescription::open(folder).unwrap();
    let checkpoint = Checkpoint::open(folder).unwrap();
    let executor = CpuExecutor::load(&checkpoint, &description, settings(weights, split)).unwrap();
    let planned = CpuExecutor::weight_bytes(&|tensor| checkpoint.kind(tensor), &description, weights, split);
    let taken = executor.memory().weights;
    assert!(taken.abs_diff(planned) < planned / 50, "{taken} for {planned}");
    executor
}

/// The narrow checkpoint gives the bits of the one that was widened before, also from a build, and takes no more than its own width.
fn runs_as_it_is_stored(narrow: &Path, wide: &Path, share: f64) {
    let (mut stored, mut widened) = (load(narrow, Precision::AsStored, 1), load(wide, Precision::AsStored, 1));
    let wanted = logits(&mut widened);
    assert!(logits(&mut stored) == wanted, "the bits of the widened weights");
    assert!(
        logits(&mut load(narrow, Precision::F32, 1)) == wanted,
        "widened when loaded"
    );
    let found = stored.memory().weights as f64 / widened.memory().weights as f64;
    assert!(found < share, "{found} of the memory");

    let folder = tempfile::tempdir().unwrap();
    let order = BuildOrder {
        source: "narrow".into(),
        precisions: Precisions {
            weights: Precision::AsStored,
            kv: KvPrecision::F32,
        },
        calibrated_on: None,
    };
    let description = ModelDescription::open(narrow).unwrap();
    let checkpoint = Checkpoint::open(narrow).unwrap();
    build(&checkpoint, &description, &order, &Rounded::new(), folder.path()).unwrap();
    let built = Build::open(folder.path()).unwrap();
    for split in description.splits().into_iter().take(2) {
        let settings = settings(Precision::AsStored, split);
        let mut mapped = CpuExecutor::load_build(&built, &description, settings).unwrap();
        let found = logits(&mut mapped);
        assert!(
            found == logits(&mut load(narrow, Precision::AsStored, split)),
            "a build in {split}"
        );
        assert!(split > 1 || found == wanted, "a build");
    }
}

#[test]
fn half_precision_floats_run_at_their_own_width() {
    let (narrow, wide) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
    let (mut halves, mut floats) = (Vec::new(), Vec::new());
    for tensor in Demo::all() {
        let values: Vec<f16> = tensor.values.iter().map(|value| f16::from_f32(*value)).collect();
        let bytes = values.iter().flat_map(|value| value.to_le_bytes()).collect();
        halves.push((tensor.name.clone(), Dtype::F16, tensor.shape.clone(), bytes));
        floats.push(tensor.floats(&values.iter().map(|value| value.to_f32()).collect::<Vec<f32>>()));
    }
    write(narrow.path(), &Value::Null, &halves);
    write(wide.path(), &Value::Null, &floats);
    runs_as_it_is_stored(narrow.path(), wide.path(), 0.51);
}

/// The nearest 8-bit float, by trying all.
fn nearest(value: f32, all: &[f32]) -> u8 {
    let distance = |bits: &usize| (all[*bits] - value).abs();
    (0..all.len())
        .min_by(|a, b| distance(a).total_cmp(&distance(b)))
        .unwrap() as u8
}

#[test]
fn eight_bit_floats_run_at_their_own_width_with_a_scale_for_each_block() {
    let block = 32;
    // All of them but NaN, by their definition.
    let all: Vec<f32> = (0..127u8)
        .map(|bits| match (bits >> 3, f32::from(bits & 7) / 8.0) {
            (0, fraction) => fraction * 2f32.powi(-6),
            (exponent, fraction) => (1.0 + fraction) * 2f32.powi(i32::from(exponent) - 7),
        })
        .collect();
    let (narrow, wide) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
    let (mut eights, mut floats) = (Vec::new(), Vec::new());
    for tensor in Demo::all() {
        if !tensor.is_of_layer() {
            let same = tensor.floats(&tensor.values);
            eights.push(same.clone());
            floats.push(same);
            continue;
        }
        let [outputs, inputs] = [tensor.shape[0], tensor.shape[1]];
        let across = inputs.div_ceil(block);
        let mut scales = vec![0f32; outputs.div_ceil(block) * across];
        let place = |at: usize| at / inputs / block * across + at % inputs / block;
        for (at, value) in tensor.values.iter().enumerate() {
            scales[place(at)] = scales[place(at)].max(value.abs() / 448.0);
        }
        let numbers: Vec<u8> = tensor
            .values
            .iter()
            .enumerate()
            .map(|(at, value)| nearest(value.abs() / scales[place(at)], &all) | u8::from(*value < 0.0) << 7)
            .collect();
        let values: Vec<f32> = numbers
            .iter()
            .enumerate()
            .map(|(at, bits)| {
                let size = all[usize::from(bits & 0x7f)];
                (if bits & 0x80 == 0 { size } else { -size }) * scales[place(at)]
            })
            .collect();
        floats.push(tensor.floats(&values));
        let shape = vec![outputs.div_ceil(block), across];
        let bytes = scales.iter().flat_map(|scale| scale.to_le_bytes()).collect();
        eights.push((
            tensor.name.replace(".weight", ".weight_scale_inv"),
            Dtype::F32,
            shape,
            bytes,
        ));
        eights.push((tensor.name.clone(), Dtype::F8_E4M3, tensor.shape.clone(), numbers));
    }
    let scheme = json!({"quant_method": "fp8", "weight_block_size": [block, block]});
    write(narrow.path(), &scheme, &eights);
    write(wide.path(), &Value::Null, &floats);
    // Embeddings are as wide as before.
    runs_as_it_is_stored(narrow.path(), wide.path(), 0.5);
}
