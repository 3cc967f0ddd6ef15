//! This machine's processor, as models are fitted to it.

use crate::devices::registry::profile;
use crate::models::origin::Shape;
use std::path::Path;
use vastrelay_engine::CpuExecutor;
use vastrelay_kernels::Isa;
use vastrelay_planner::accelerator::Placement;
use vastrelay_planner::amounts::{count_of, grouped};
use vastrelay_planner::terms::Term;
use vastrelay_planner::{CpuCost, CpuSpeed, Hardware, Profile, Sizes, StepTimes, Usual};

/// A processor with its memory and its speed.
#[derive(Clone, Debug)]
pub struct CpuHardware {
    /// Bytes of memory.
    pub memory: usize,
    /// Cores of a replica.
    pub cores: usize,
    /// The settings of a replica where nothing sets them.
    pub usual: Usual,
    /// Its price for an hour.
    pub price: f64,
    /// The currency of its price, where its profile names one.
    pub currency: Option<String>,
    /// How fast it is.
    pub speed: CpuSpeed,
}

impl CpuHardware {
    /// Returns the speed that is kept in a file, where it was measured with these instructions and so many cores.
    pub fn kept_speed(file: &Path, isa: Isa, cores: usize) -> Option<CpuSpeed> {
        let Ok(Profile::Cpu(profile)) = profile(&file.display().to_string(), file) else {
            return None;
        };
        let is_of_here = |speed: &CpuSpeed| speed.instructions == isa.name() && speed.cores == cores;
        profile.speed.filter(is_of_here)
    }
}

/// Returns what a placement takes of a processor with so many threads.
pub fn sizes_on_cpu(placement: &Placement<'_>, threads: usize) -> Sizes {
    let (model, split) = (placement.model, placement.split);
    let shape = Shape {
        weights: placement.precisions.weights,
        kv: placement.precisions.kv,
        split,
        cores: threads,
        step_budget: placement.step_budget,
        width: placement.width,
        context: placement.context,
    };
    let weights = CpuExecutor::weight_bytes(placement.stored, model, shape.weights, split);
    shape.sizes(model, weights)
}

impl Hardware for CpuHardware {
    fn name(&self) -> &str {
        "cpu"
    }

    fn is_simulated(&self) -> bool {
        false
    }

    fn count(&self) -> usize {
        1
    }

    fn memory(&self) -> usize {
        self.memory
    }

    fn usual(&self) -> Usual {
        self.usual
    }

    fn price(&self) -> f64 {
        self.price
    }

    fn currency(&self) -> Option<&str> {
        self.currency.as_deref()
    }

    fn sizes(&self, placement: &Placement<'_>) -> Sizes {
        sizes_on_cpu(placement, self.cores)
    }

    fn arithmetic(&self, placement: &Placement<'_>) -> Vec<Term> {
        let sizes = self.sizes(placement);
        let precision = placement.precisions.weights.phrase();
        let parameters = grouped(placement.model.parameters());
        let weights = format!("{parameters} parameters: matrices {precision}, scales of 4 B, vectors in f32");
        let workspace = format!("activations of {} tokens, logits, rotary tables", placement.step_budget);
        let process = format!("program, stacks of {} and a tokenizer", count_of(self.cores, "core"));
        vec![
            Term::bytes("weights", sizes.weights, weights),
            Term::bytes("workspace", sizes.workspace, workspace),
            Term::bytes("process", sizes.process, process),
        ]
    }

    fn cost(&self, placement: &Placement<'_>) -> Box<dyn StepTimes> {
        let Placement {
            model,
            stored,
            precisions,
            ..
        } = placement;
        Box::new(CpuCost::new(model, *stored, *precisions, &self.speed))
    }
}
