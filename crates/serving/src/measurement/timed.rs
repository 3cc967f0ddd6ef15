//! A model whose steps are timed.

use crate::error::LoadError;
use std::path::Path;
use std::sync::Arc;
use std::time::Instant;
use vastrelay_engine::cpu::{CpuExecutor, CpuSettings};
use vastrelay_engine::executor::{BatchRow, Executor, StepBatch, TableChange, Want, run_step};
use vastrelay_engine::phases::{PhaseTimes, StepPhase};
use vastrelay_engine::sampling::{Choice, Sampling};
use vastrelay_kernels::Isa;
use vastrelay_kernels::attention::{KvPrecision, PAGE_TOKENS};
use vastrelay_weights::{Checkpoint, ModelDescription, Precision};

/// Seconds that a measurement lasts at least.
const LONG_ENOUGH: f64 = 0.04;
/// Steps that it has at least.
const LEAST_STEPS: usize = 4;

/// How a model is loaded to be timed.
#[derive(Clone, Copy, Debug)]
pub struct Load {
    /// The kernels' instructions.
    pub isa: Isa,
    /// Its cores.
    pub cores: usize,
    /// Precision of weights.
    pub weights: Precision,
    /// Precision of keys and values.
    pub kv: KvPrecision,
    /// Most sequences in a step.
    pub sequences: usize,
    /// Most tokens of a sequence.
    pub context: usize,
    /// Most tokens of a step.
    pub step: usize,
}

/// A model with random keys and values in its cache.
pub struct TimedModel {
    /// What it is.
    pub description: ModelDescription,
    executor: CpuExecutor,
    /// Pages of a sequence.
    pages: usize,
}

/// How long a step took.
#[derive(Clone, Copy, Debug)]
pub struct TimedStep {
    /// From before it was ordered until its result was there.
    pub seconds: f64,
    phases: PhaseTimes,
}

impl TimedStep {
    /// Returns the seconds of some of its phases together.
    pub fn sum(&self, phases: &[StepPhase]) -> f64 {
        phases.iter().map(|phase| self.phases.of(*phase).as_secs_f64()).sum()
    }
}

impl TimedModel {
    /// Loads a checkpoint and fills its cache.
    ///
    /// # Errors
    /// When it cannot be read or run.
    pub fn load(path: &Path, load: Load) -> Result<TimedModel, LoadError> {
        let description = ModelDescription::open(path)?;
        let pages = load.context.div_ceil(PAGE_TOKENS) + 1;
        let settings = CpuSettings {
            isa: load.isa,
            cores: load.cores,
            spinning: Default::default(),
            split: 1,
            context: load.context,
            step_tokens: load.step,
            width: load.step,
            pages: vec![load.sequences * pages; description.reaches().len()],
            weights: load.weights,
            kv: load.kv,
        };
        let mut executor = CpuExecutor::load(&Checkpoint::open(path)?, &description, settings)?;
        // Random values, as computed ones would take long and cost the same to read.
        executor
            .fill_kv(1)
            .map_err(|error| LoadError::Refused(error.to_string()))?;
        Ok(TimedModel {
            description,
            executor,
            pages,
        })
    }

    /// Returns the bytes of its weights.
    pub fn weight_bytes(&self) -> usize {
        self.executor.memory().weights
    }

    /// Times steps of so many sequences, each with so many tokens after so many. The lower quartile counts: what the host takes for
    /// others is no part of a step.
    ///
    /// # Panics
    /// When the model cannot be run.
    pub fn time(&mut self, sequences: usize, tokens: usize, start: usize) -> TimedStep {
        let mut all: Vec<TimedStep> = Vec::new();
        let begun = Instant::now();
        // The first one warms up.
        while all.len() <= LEAST_STEPS || begun.elapsed().as_secs_f64() < LONG_ENOUGH {
            let rows = (0..sequences).map(|sequence| self.row(sequence, tokens, start));
            let batch = StepBatch {
                copies: Vec::new(),
                rows: rows.collect(),
            };
            let at = Instant::now();
            let result = run_step(&mut self.executor, batch).expect("the model runs");
            all.push(TimedStep {
                seconds: at.elapsed().as_secs_f64(),
                phases: result.phases,
            });
        }
        all.remove(0);
        all.sort_by(|a, b| a.seconds.total_cmp(&b.seconds));
        all.swap_remove(all.len() / 4)
    }

    fn row(&self, slot: usize, tokens: usize, start: usize) -> BatchRow {
        let first = (slot * self.pages) as u32;
        let pages: Vec<u32> = (first..first + self.pages as u32).collect();
        let token = |at: usize| ((start + at) * 7_919 % self.description.vocabulary) as u32;
        BatchRow {
            tokens: (0..tokens).map(token).collect(),
            drafts: 0,
            start,
            slot,
            tables: TableChange::all(vec![pages; self.executor.memory().pools]),
            whole: None,
            want: Want::Token(Choice {
                sampling: Arc::new(Sampling::default()),
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
