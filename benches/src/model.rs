//! Models to measure: of random weights in common shapes, or of a file.

use crate::report::Report;
use crate::{Machine, Options, memory};
use anyhow::{Context, Result, bail};
use serde_json::json;
use std::path::Path;
use std::sync::Arc;
use std::time::Instant;
use vastrelay_engine::cpu::{CpuExecutor, CpuSettings, StepSize};
use vastrelay_engine::executor::{BatchRow, Executor, StepBatch, TableChange, Want, run_step};
use vastrelay_engine::phases::StepPhase;
use vastrelay_engine::sampling::{Choice, Sampling};
use vastrelay_kernels::attention::{KvPrecision, PAGE_TOKENS};
use vastrelay_kernels::groups::Bits;
use vastrelay_specimen::{Stored, gguf};
use vastrelay_weights::{Checkpoint, ModelDescription, Precision};

/// Most tokens of a step.
pub const STEP_TOKENS: usize = 2_048;
/// Most sequences that are decoded together.
pub const MOST_SEQUENCES: usize = 64;
/// Cached tokens of a sequence that is decoded.
pub const CACHED: usize = 512;
/// Pages of a sequence: what is cached, and room to go on.
const PAGES: usize = CACHED / PAGE_TOKENS + 4;
/// Pages of all sequences, and of a prompt.
const ALL_PAGES: usize = MOST_SEQUENCES * PAGES + STEP_TOKENS / PAGE_TOKENS;

/// A common shape of a model.
#[derive(Clone, Copy, Debug)]
pub struct Shape {
    /// What it is called here: its number of parameters.
    pub name: &'static str,
    width: usize,
    layers: usize,
    heads: usize,
    kv_heads: usize,
    mlp_width: usize,
    vocabulary: usize,
    tied: bool,
}

/// The name of the smallest shape.
pub const SMALLEST: &str = "135M";

const SHAPES: [Shape; 3] = [
    Shape {
        name: SMALLEST,
        width: 576,
        layers: 30,
        heads: 9,
        kv_heads: 3,
        mlp_width: 1_536,
        vocabulary: 49_152,
        tied: true,
    },
    Shape {
        name: "0.5B",
        width: 896,
        layers: 24,
        heads: 14,
        kv_heads: 2,
        mlp_width: 4_864,
        vocabulary: 151_936,
        tied: true,
    },
    Shape {
        name: "1.1B",
        width: 2_048,
        layers: 22,
        heads: 32,
        kv_heads: 4,
        mlp_width: 5_632,
        vocabulary: 32_000,
        tied: false,
    },
];

/// Returns the shapes of such names; without names, the small one when there is little time, else all.
pub fn shapes(names: &[String], quick: bool) -> Result<Vec<Shape>> {
    if names.is_empty() {
        return Ok(SHAPES[..if quick { 1 } else { SHAPES.len() }].to_vec());
    }
    let find = |name: &String| {
        let found = SHAPES.iter().find(|shape| shape.name == name).copied();
        found.with_context(|| format!("there is no shape `{name}`; use 135M, 0.5B or 1.1B"))
    };
    names.iter().map(find).collect()
}

impl Shape {
    /// Returns it as a model's configuration.
    pub fn config(&self) -> serde_json::Value {
        json!({
            "architectures": ["LlamaForCausalLM"], "model_type": "llama", "vocab_size": self.vocabulary,
            "hidden_size": self.width, "num_hidden_layers": self.layers, "num_attention_heads": self.heads,
            "num_key_value_heads": self.kv_heads, "intermediate_size": self.mlp_width, "hidden_act": "silu",
            "rms_norm_eps": 1e-5, "rope_theta": 10_000.0, "max_position_embeddings": 4_096,
            "tie_word_embeddings": self.tied, "bos_token_id": 0, "eos_token_id": 0,
        })
    }
}

/// A model in a precision.
pub struct Model {
    /// The precision's name.
    pub name: String,
    /// What it is.
    pub description: ModelDescription,
    /// Bytes of its weights.
    pub weights: usize,
    /// Bytes of keys and values of a token.
    pub token_bytes: usize,
    /// Whether products of its layers are those of whole numbers.
    pub is_whole: bool,
    executor: CpuExecutor,
    /// Whether the KV memory holds something to read.
    is_filled: bool,
    /// Seconds of each part of the steps so far, and how many they were.
    phases: ([f64; StepPhase::ALL.len()], usize),
}

const INT8: Precision = Precision::Groups {
    bits: Bits::Eight,
    group: 32,
};
const INT4: Precision = Precision::Groups {
    bits: Bits::Four,
    group: 32,
};

/// Returns a shape in all precisions.
pub fn of_shape(shape: Shape, machine: Machine, options: &Options, report: &mut Report) -> Result<Vec<Model>> {
    eprintln!("{}: making random weights", shape.name);
    let folder = tempfile::tempdir()?;
    vastrelay_specimen::write(folder.path(), &shape.config(), Stored::Bf16)?;
    let file = folder.path().join("blocks.gguf");
    std::fs::write(&file, gguf::of_folder(folder.path(), gguf::Precision::Q4_1)?)?;
    load_all(shape.name, folder.path(), &file, machine, options, report)
}

/// Returns a file's model in all precisions.
pub fn of_file(path: &Path, machine: Machine, options: &Options, report: &mut Report) -> Result<Vec<Model>> {
    load_all("weights", path, path, machine, options, report)
}

/// Loads a model in all wanted precisions for which there is memory.
fn load_all(
    model: &str,
    path: &Path,
    blocks: &Path,
    machine: Machine,
    options: &Options,
    report: &mut Report,
) -> Result<Vec<Model>> {
    let all = [
        ("f32", path, Precision::F32),
        ("bf16", path, Precision::Bf16),
        ("int8", path, INT8),
        ("int4", path, INT4),
        ("GGUF", blocks, Precision::AsStored),
    ];
    let is_wanted = |name: &str| match options.precisions.as_slice() {
        [] => name != "f32" || !options.quick,
        names => names.iter().any(|wanted| wanted == name),
    };
    let mut models = Vec::new();
    for (name, path, precision) in all.into_iter().filter(|(name, ..)| is_wanted(name)) {
        let needed = Model::bytes(path, precision)?;
        if memory::fits(needed) {
            models.push(Model::load(path, name, precision, machine)?);
        } else {
            report.skip(format!(
                "{model} in {name}: needs {} MiB, more than is free",
                needed >> 20
            ));
        }
    }
    Ok(models)
}

impl Model {
    /// Returns the bytes that a model takes in a precision.
    fn bytes(path: &Path, precision: Precision) -> Result<usize> {
        let description = ModelDescription::open(path)?;
        let page = CpuExecutor::page_bytes(&description, description.layers, 1, KvPrecision::default());
        let checkpoint = Checkpoint::open(path)?;
        let weights = CpuExecutor::weight_bytes(&|tensor| checkpoint.kind(tensor), &description, precision, 1);
        let workspace = CpuExecutor::workspace_bytes(
            &description,
            StepSize {
                split: 1,
                tokens: STEP_TOKENS,
                width: STEP_TOKENS,
                context: STEP_TOKENS + 64,
                cores: 1,
            },
        );
        Ok(weights + workspace + ALL_PAGES * page)
    }

    fn load(path: &Path, name: &str, precision: Precision, machine: Machine) -> Result<Model> {
        let begun = Instant::now();
        let description = ModelDescription::open(path)?;
        let checkpoint = Checkpoint::open(path)?;
        let kv = KvPrecision::default();
        let page = CpuExecutor::page_bytes(&description, description.layers, 1, kv);
        let settings = CpuSettings {
            spinning: Default::default(),
            isa: machine.isa,
            cores: machine.cores,
            split: 1,
            context: STEP_TOKENS + 64,
            step_tokens: STEP_TOKENS,
            width: STEP_TOKENS,
            pages: vec![ALL_PAGES; description.reaches().len()],
            weights: precision,
            kv,
        };
        let executor = CpuExecutor::load(&checkpoint, &description, settings)?;
        let weights = executor.memory().weights;
        eprintln!(
            "  {name}: {:.0} MiB, loaded in {:.1} s",
            weights as f64 / f64::from(1 << 20),
            begun.elapsed().as_secs_f64()
        );
        Ok(Model {
            name: name.to_owned(),
            token_bytes: page / PAGE_TOKENS,
            description,
            weights,
            is_whole: !matches!(name, "f32" | "bf16"),
            executor,
            is_filled: false,
            phases: Default::default(),
        })
    }

    fn step(&mut self, batch: StepBatch) -> Result<f64> {
        let begun = Instant::now();
        let result = run_step(&mut self.executor, batch)?;
        if result.rows.iter().any(|row| row.not_finite) {
            bail!("{} gave what is not a number", self.name);
        }
        let seconds = begun.elapsed().as_secs_f64();
        for (sum, phase) in self.phases.0.iter_mut().zip(StepPhase::ALL) {
            *sum += result.phases.of(phase).as_secs_f64();
        }
        self.phases.1 += 1;
        Ok(seconds)
    }

    /// Returns how many seconds each part of a step took, over all steps since the last time.
    pub fn take_phases(&mut self) -> Vec<(String, f64)> {
        let (sums, steps) = std::mem::take(&mut self.phases);
        let mean = |(phase, sum): (StepPhase, f64)| (phase.name().to_owned(), sum / steps.max(1) as f64);
        StepPhase::ALL.into_iter().zip(sums).map(mean).collect()
    }

    /// Reads a prompt of so many tokens and chooses a token after it; returns the seconds.
    pub fn prefill(&mut self, tokens: usize) -> Result<f64> {
        let row = self.prompt(tokens);
        self.step(StepBatch {
            copies: Vec::new(),
            rows: vec![row],
        })
    }

    fn prompt(&self, tokens: usize) -> BatchRow {
        let first = MOST_SEQUENCES * PAGES;
        let pages = (first..first + tokens.div_ceil(PAGE_TOKENS))
            .map(|page| page as u32)
            .collect();
        self.row(MOST_SEQUENCES, 0, tokens, pages)
    }

    /// Decodes one token of each of so many sequences and reads a prompt of so many tokens, in one step; returns the seconds.
    pub fn mixed(&mut self, sequences: usize, tokens: usize) -> Result<f64> {
        self.ensure_filled()?;
        let mut rows = self.sequences(sequences, CACHED);
        rows.push(self.prompt(tokens));
        self.step(StepBatch {
            copies: Vec::new(),
            rows,
        })
    }

    /// Decodes one token of each of so many sequences with so many tokens cached; returns the seconds.
    pub fn decode(&mut self, sequences: usize, cached: usize) -> Result<f64> {
        self.ensure_filled()?;
        let rows = self.sequences(sequences, cached);
        self.step(StepBatch {
            copies: Vec::new(),
            rows,
        })
    }

    /// Gives every sequence a cache: random values, as computed ones would take long and cost the same to read.
    fn ensure_filled(&mut self) -> Result<()> {
        if !self.is_filled {
            self.executor.fill_kv(14)?;
            self.is_filled = true;
        }
        Ok(())
    }

    fn sequences(&self, sequences: usize, cached: usize) -> Vec<BatchRow> {
        let row = |sequence: usize| {
            let first = (sequence * PAGES) as u32;
            self.row(sequence, cached, 1, (first..first + PAGES as u32).collect())
        };
        (0..sequences).map(row).collect()
    }

    fn row(&self, slot: usize, start: usize, tokens: usize, pages: Vec<u32>) -> BatchRow {
        let vocabulary = self.description.vocabulary;
        BatchRow {
            tokens: (0..tokens)
                .map(|at| ((start + at) * 7_919 % vocabulary) as u32)
                .collect(),
            drafts: 0,
            start,
            slot,
            tables: TableChange::all(vec![pages; self.executor.memory().pools]),
            whole: None,
            want: Want::Token(Choice {
                sampling: Arc::new(Sampling {
                    temperature: 0.0,
                    ..Sampling::default()
                }),
                completion: 0,
                position: 0,
                seen: Arc::default(),
                end_ids: Arc::default(),
                may_end_from: 0,
                top: None,
            }),
            logprobs: None,
        }
    }
}
