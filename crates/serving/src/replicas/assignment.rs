//! The assignment of a replica whose memory is planned: all that a process needs to run it.

use crate::devices::turn::Turn;
use crate::error::LoadError;
use crate::models::origin::Origin;
use crate::replicas::start_phase::StartPhase;
use serde::{Deserialize, Serialize};
use std::ffi::OsString;
use std::path::Path;
use std::time::Duration;
use vastrelay_engine::cpu::CpuSettings;
use vastrelay_engine::sampling::random::Random;
use vastrelay_engine::simulated::{Speech, StepTime};
use vastrelay_engine::{CpuExecutor, Executor, Limits, MemoryReport, SimulatedExecutor};
use vastrelay_kernels::Isa;
use vastrelay_kernels::reserved::Untouched;
use vastrelay_kernels::thread_pool::Spinning;
use vastrelay_planner::accelerator::Placement;
use vastrelay_planner::{CostModel, CostRow, DeviceProfile, StepTimes};
use vastrelay_text::TokenPieces;
use vastrelay_weights::build::Checked;
use vastrelay_weights::{ModelDescription, ModelFiles, Precisions, StoredAs};

/// The length in the middle of all answers' lengths, in tokens.
const MEDIAN_LENGTH: f64 = 180.0;
/// The deviation of the logarithm of answers' lengths.
const LENGTH_SIGMA: f64 = 0.6;
/// How far a step may last longer or less long than predicted.
const JITTER: f64 = 0.03;

/// What is run, and how.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Assignment {
    /// The path of the model, from the root on.
    pub path: OsString,
    /// The precisions asked for.
    #[serde(with = "precision_names")]
    pub precisions: Precisions,
    /// The limits of its engine.
    pub limits: Limits,
    /// Shards, or devices.
    pub split: usize,
    /// Where it runs.
    pub place: Backend,
}

/// Where a replica runs.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub enum Backend {
    /// On this machine's processor.
    Cpu {
        /// Threads that compute.
        threads: usize,
        /// Instructions of its kernels, by name.
        isa: String,
        /// That a build is what was written, so that it is not read again for that.
        checked: Option<Checked>,
    },
    /// On simulated devices.
    Simulated {
        /// Their profile.
        profile: Box<DeviceProfile>,
        /// What it takes of their memory.
        memory: MemoryReport,
        /// The files through which it takes turns on each of them, always in the same order.
        turns: Vec<OsString>,
    },
}

/// Something that runs steps, and its memory that the system has not given yet.
pub struct Loaded {
    /// What runs steps.
    pub executor: Box<dyn Executor>,
    /// Memory to be touched ahead of use.
    pub untouched: Vec<Untouched>,
}

impl Assignment {
    /// Loads the weights, and tells which phase it `enters` once the files are found to be in order; `spinning` says to its threads whether their cores
    /// are their own. Simulated devices say words of the vocabulary, and one of `ends` after an answer.
    ///
    /// # Errors
    /// When they cannot be read or run.
    pub fn load(
        &self,
        files: &ModelFiles,
        description: &ModelDescription,
        pieces: &TokenPieces,
        ends: &[u32],
        enters: &dyn Fn(StartPhase),
        spinning: &Spinning,
    ) -> Result<Loaded, LoadError> {
        match &self.place {
            Backend::Cpu { threads, isa, checked } => {
                let origin = Origin::open(files, description, checked.as_ref())?;
                enters(StartPhase::LoadingWeights);
                self.load_on_cpu(&origin, description, *threads, isa, spinning)
            }
            Backend::Simulated { profile, memory, turns } => {
                let time = self.step_time(files, description, profile)?;
                enters(StartPhase::LoadingWeights);
                let speech = speech(description, pieces, ends);
                let turns: Result<Vec<Turn>, _> = turns.iter().map(|turn| Turn::open(Path::new(turn))).collect();
                let occupy = Box::new(occupy(turns.map_err(LoadError::Thread)?));
                let executor = SimulatedExecutor::start(*memory, description.vocabulary, speech, time, occupy);
                Ok(Loaded {
                    executor: Box::new(executor.map_err(LoadError::Thread)?),
                    untouched: Vec::new(),
                })
            }
        }
    }

    /// Returns the path of the model.
    pub fn path(&self) -> &Path {
        Path::new(&self.path)
    }

    /// Returns the identity of its workers: weights, limits and devices, whatever room they found.
    ///
    /// # Panics
    /// Never: an assignment can be written as JSON.
    pub fn worker(&self) -> String {
        let mut plain = self.clone();
        plain.limits.pools.clear();
        match &mut plain.place {
            Backend::Cpu { threads, checked, .. } => (*threads, *checked) = (0, None),
            Backend::Simulated { memory, turns, .. } => {
                *memory = MemoryReport::default();
                turns.clear();
            }
        }
        serde_json::to_string(&plain).expect("an assignment can be written")
    }

    /// Returns what tells apart the keys and values of different weights, kernels and precisions.
    pub fn build(&self) -> String {
        let Precisions { weights, kv } = self.precisions;
        let (path, group) = (self.path().display(), weights.group().unwrap_or(0));
        match &self.place {
            Backend::Cpu { isa, .. } => format!("{path} {isa} {} {group} {}", weights.word(), kv.name()),
            Backend::Simulated { .. } => format!("simulated {path}"),
        }
    }

    fn load_on_cpu(
        &self,
        origin: &Origin,
        description: &ModelDescription,
        threads: usize,
        isa: &str,
        spinning: &Spinning,
    ) -> Result<Loaded, LoadError> {
        let settings = CpuSettings {
            isa: Isa::of(isa).map_err(LoadError::Refused)?,
            cores: threads,
            spinning: spinning.clone(),
            context: self.limits.context,
            step_tokens: self.limits.step_budget,
            width: self.limits.width,
            split: self.split,
            pages: self.limits.pools.iter().map(|pool| pool.pages).collect(),
            weights: self.precisions.weights,
            kv: self.precisions.kv,
        };
        let executor: CpuExecutor = origin.load(description, settings)?;
        Ok(Loaded {
            untouched: executor.untouched(),
            executor: Box::new(executor),
        })
    }

    /// Returns the time of steps: what the cost model predicts, and a little more or less.
    fn step_time(
        &self,
        files: &ModelFiles,
        description: &ModelDescription,
        profile: &DeviceProfile,
    ) -> Result<StepTime, LoadError> {
        let stored = StoredAs::read(files)?;
        let placement = Placement {
            model: description,
            stored: &|tensor| stored.kind(tensor),
            precisions: self.precisions,
            split: self.split,
            width: self.limits.width,
            step_budget: self.limits.step_budget,
            context: self.limits.context,
        };
        let cost = CostModel::new(&placement, profile);
        let steps = std::cell::Cell::new(0);
        Ok(Box::new(move |rows| {
            let of = |(tokens, start, chooses)| CostRow { tokens, start, chooses };
            let predicted = cost.step(&rows.map(of).collect::<Vec<CostRow>>()).total();
            let jitter = JITTER * (2.0 * Random::new(0, 0, steps.replace(steps.get() + 1)).unit() - 1.0);
            Duration::from_secs_f64(predicted * (1.0 + jitter))
        }))
    }
}

/// Says the model's tokens that are words by themselves.
fn speech(description: &ModelDescription, pieces: &TokenPieces, ends: &[u32]) -> Speech {
    let most = pieces.count().min(description.vocabulary) as u32;
    let is_word = |id: &u32| {
        let text = pieces.text(&[*id]);
        !pieces.is_special(*id) && !text.is_empty() && text.chars().all(|c| c == ' ' || c.is_alphanumeric())
    };
    let mut tokens: Vec<u32> = (0..most).filter(is_word).collect();
    if tokens.is_empty() {
        tokens = (0..most.max(1)).collect();
    }
    Speech {
        tokens: tokens.into(),
        end: ends.first().copied(),
        median: MEDIAN_LENGTH,
        sigma: LENGTH_SIGMA,
    }
}

/// Computes on devices for so long, when it is its turn on all of them.
fn occupy(turns: Vec<Turn>) -> impl FnMut(Duration) + Send {
    move |time| {
        let taken: Result<Vec<_>, _> = turns.iter().map(Turn::take).collect();
        if let Err(error) = &taken {
            tracing::error!(%error, "devices are used without their turn");
        }
        std::thread::sleep(time);
    }
}

/// Precisions as names, in every format.
mod precision_names {
    use serde::de::Error;
    use serde::{Deserialize, Deserializer, Serialize, Serializer};
    use vastrelay_kernels::attention::KvPrecision;
    use vastrelay_weights::{Precision, Precisions};

    pub fn serialize<S: Serializer>(precisions: &Precisions, to: S) -> Result<S::Ok, S::Error> {
        let Precisions { weights, kv } = precisions;
        (weights.word(), weights.group(), kv.name()).serialize(to)
    }

    pub fn deserialize<'de, D: Deserializer<'de>>(from: D) -> Result<Precisions, D::Error> {
        let (weights, group, kv) = <(String, Option<usize>, String)>::deserialize(from)?;
        Ok(Precisions {
            weights: Precision::of(&weights, group).map_err(D::Error::custom)?,
            kv: KvPrecision::of(&kv).ok_or_else(|| D::Error::custom(format!("`{kv}` is not a KV precision")))?,
        })
    }
}
