//! Does a model fit devices of a kind, over how many of them, and what would callers see?

use crate::accelerator::Placement;
use crate::amounts::{count_of, grouped};
use crate::hardware::Hardware;
use crate::memory::{DoesNotFit, MemoryPlan, MemoryRequest};
use crate::prediction::{Prediction, Running, Typical};
use vastrelay_weights::description::ModelDescription;
use vastrelay_weights::precision::Precisions;
use vastrelay_weights::{Kind, SplitError};

/// What is to fit.
#[derive(Clone)]
pub struct Question<'a> {
    /// The model.
    pub model: &'a ModelDescription,
    /// What each tensor is stored as.
    pub stored: &'a dyn Fn(&str) -> Kind,
    /// What it is to run in.
    pub precisions: Precisions,
    /// Maximum sequences in a batch.
    pub width: usize,
    /// Most tokens in one step.
    pub step_budget: usize,
    /// Tokens of one sequence at most.
    pub context: usize,
    /// Fraction of each device's memory that may be taken.
    pub memory_share: f64,
    /// The usual sequence.
    pub typical: Typical,
    /// Sequences at full context that have to fit at once; any number does when absent.
    pub concurrency: Option<usize>,
}

/// What is to be said of a model over so many devices of a kind.
#[derive(Clone, Debug)]
pub struct SplitFit {
    /// How many devices.
    pub split: usize,
    /// Whether it fits, or why not.
    pub verdict: Result<Fitting, WhyNot>,
}

/// What fits.
#[derive(Clone, Debug)]
pub struct Fitting {
    /// The arithmetic of the device that has most.
    pub plan: MemoryPlan,
    /// Bytes of each token that are kept more than once, as key and value heads are fewer than devices.
    pub copied: usize,
    /// The prediction for callers.
    pub predicted: Prediction,
}

/// Why it does not.
#[derive(Clone, Debug, PartialEq, thiserror::Error)]
pub enum WhyNot {
    /// The model cannot be divided so.
    #[error(transparent)]
    Split(#[from] SplitError),
    /// The memory is too small.
    #[error(transparent)]
    Memory(#[from] DoesNotFit),
    /// Fewer sequences fit than have to.
    #[error(
        "its memory limit holds {} of {} tokens at once, and {} have to fit",
        count_of(*fits, "sequence"), grouped(*tokens), grouped(*wanted)
    )]
    Sequences {
        /// How many fit.
        fits: usize,
        /// Of how many tokens.
        tokens: usize,
        /// How many have to.
        wanted: usize,
    },
    /// There are not so many devices.
    #[error("there are {count} devices")]
    Devices {
        /// How many there are.
        count: usize,
    },
}

impl<'a> Question<'a> {
    /// Returns the placement over so many devices.
    pub fn placement(&self, split: usize) -> Placement<'a> {
        Placement {
            model: self.model,
            stored: self.stored,
            precisions: self.precisions,
            split,
            width: self.width,
            step_budget: self.step_budget,
            context: self.context,
        }
    }

    /// Answers for one device, two, and so on, up to so many.
    pub fn splits(&self, hardware: &dyn Hardware, count: usize) -> Vec<SplitFit> {
        (1..=count).map(|split| self.split(hardware, split)).collect()
    }

    /// Answers for so many devices.
    pub fn split(&self, hardware: &dyn Hardware, split: usize) -> SplitFit {
        SplitFit {
            split,
            verdict: self.verdict(hardware, split),
        }
    }

    fn verdict(&self, hardware: &dyn Hardware, split: usize) -> Result<Fitting, WhyNot> {
        if split > hardware.count() {
            return Err(WhyNot::Devices {
                count: hardware.count(),
            });
        }
        self.model.check_split(split)?;
        let placement = self.placement(split);
        let sizes = hardware.sizes(&placement);
        let device = hardware.memory();
        let request = MemoryRequest {
            device,
            budget: (device as f64 * self.memory_share) as usize,
            width: self.width,
            step_budget: self.step_budget,
            context: self.context,
            typical: self.typical.tokens(),
            pages: None,
        };
        let plan = MemoryPlan::new(&sizes, request)?;
        let fits = plan.full_sequences().in_limit();
        if let Some(wanted) = self.concurrency.filter(|wanted| *wanted > fits) {
            return Err(WhyNot::Sequences {
                fits,
                tokens: self.context,
                wanted,
            });
        }
        Ok(Fitting {
            copied: placement.copied_token_bytes(),
            predicted: self.predictions(
                hardware,
                split,
                plan.typical_sequences().in_pool,
                &[self.concurrency.unwrap_or(1)],
            )[0],
            plan,
        })
    }

    /// Returns what so many callers would see on so many devices, for each of several counts of them; the model has to fit, and `fits`
    /// sequences of usual length do at once.
    pub fn predictions(
        &self,
        hardware: &dyn Hardware,
        split: usize,
        fits: usize,
        callers: &[usize],
    ) -> Vec<Prediction> {
        let cost = hardware.cost(&self.placement(split));
        let running = Running {
            split,
            width: self.width,
            step_budget: self.step_budget,
            fits,
            typical: self.typical,
        };
        let of = |callers: &usize| Prediction::new(&*cost, hardware.price(), running, *callers);
        callers.iter().map(of).collect()
    }

    /// Returns the cheapest devices on which it fits: which of them, and how many. Of two with one price the one with less memory. Prices
    /// are compared within the currency of the first device.
    pub fn cheapest<'h>(&self, known: &[&'h dyn Hardware]) -> Option<(&'h dyn Hardware, usize)> {
        let currency = known.first().and_then(|hardware| hardware.currency());
        let comparable = known.iter().filter(|hardware| hardware.currency() == currency);
        let fitting = comparable.filter_map(|hardware| {
            let split = (1..=hardware.count()).find(|split| self.verdict(*hardware, *split).is_ok())?;
            Some((*hardware, split))
        });
        let price = |hardware: &dyn Hardware, split: usize| hardware.price() * split as f64;
        let memory = |hardware: &dyn Hardware, split: usize| hardware.memory() * split;
        fitting.min_by(|(a, of_a), (b, of_b)| {
            price(*a, *of_a)
                .total_cmp(&price(*b, *of_b))
                .then(memory(*a, *of_a).cmp(&memory(*b, *of_b)))
        })
    }
}
