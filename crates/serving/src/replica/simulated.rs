//! A replica on simulated devices: it takes their memory and their time, and says tokens of no meaning.

use super::{Replica, ReplicaSettings};
use crate::device::Turn;
use crate::error::LoadError;
use crate::model::Model;
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::Duration;
use vastrelay_engine::sampling::random::Random;
use vastrelay_engine::simulated::{Speech, StepTime};
use vastrelay_engine::{Engine, MemoryReport, SimulatedExecutor};
use vastrelay_planner::hardware::of_profiles;
use vastrelay_planner::{CostModel, CostRow, DeviceProfile, MemoryPlan, Question, StepTimes, Typical, WhyNot};
use vastrelay_weights::StoredAs;
use vastrelay_weights::precision::Precisions;
use vastrelay_weights::split::either;

/// The length in the middle of all answers' lengths, in tokens.
const MEDIAN_LENGTH: f64 = 180.0;
/// The deviation of the logarithm of answers' lengths.
const LENGTH_SIGMA: f64 = 0.6;
/// How far a step may last longer or less long than predicted.
const JITTER: f64 = 0.03;

/// Places a model on simulated devices and starts its engine.
///
/// # Errors
/// When a setting cannot be, or the model does not fit; the text has the arithmetic and what would fit.
pub(super) fn load(
    endpoint: &str,
    model: &Model,
    path: &Path,
    settings: &ReplicaSettings,
    profile: &DeviceProfile,
    context: usize,
) -> Result<Replica, LoadError> {
    let stored = StoredAs::open(path)?;
    let kind = |tensor: &str| stored.kind(tensor);
    let question = Question {
        model: &model.description,
        stored: &kind,
        precisions: Precisions {
            weights: settings.weights,
            kv: settings.kv.unwrap_or_default(),
        },
        width: settings.width,
        step_budget: settings.step_budget,
        context,
        memory_share: settings.memory_share,
        // Nothing here depends on it.
        typical: Typical { prompt: 1, output: 1 },
        concurrency: None,
    };
    let device = &settings.device;
    let refused = |source: WhyNot| LoadError::Devices {
        folder: path.to_owned(),
        split: settings.split,
        device: profile.name.clone(),
        source: Box::new(source),
        would: would_do(&question, profile),
    };
    if settings.split > profile.count {
        return Err(refused(WhyNot::Devices { count: profile.count }));
    }
    let placement = question.placement(settings.split);
    let sizes = placement.sizes(profile);
    let (held, memory) = device.hold(endpoint, settings.split, |room| {
        let wish = settings.wish(room.free, context);
        match MemoryPlan::new(&sizes, wish) {
            Ok(plan) => Ok((plan.total(), plan)),
            Err(source) if room.holders.is_empty() => Err(refused(source.into())),
            Err(source) => Err(LoadError::Memory {
                folder: path.to_owned(),
                source,
                holders: room.holders,
            }),
        }
    })?;
    held.resident().store(memory.total(), Ordering::Relaxed);
    let executor = SimulatedExecutor::start(
        report(&memory),
        model.description.vocabulary,
        speech(model),
        time(CostModel::new(&placement, profile)),
        Box::new(occupy(held.turns())),
    )
    .map_err(LoadError::Thread)?;
    let limits = settings.limits(&memory);
    let build = format!("simulated {}", path.display());
    let engine = Engine::start(Box::new(executor), model.tokenizer.pieces().clone(), limits, build);
    Ok(Replica {
        number: 1,
        incarnation: 1,
        path: path.to_owned(),
        device: device.clone(),
        generate: Arc::new(engine),
        memory,
        instructions: "simulated",
        cores: 0,
        split: settings.split,
        precisions: question.precisions,
        held,
    })
}

/// Returns what would fit devices on which there is nothing else.
fn would_do(question: &Question<'_>, profile: &DeviceProfile) -> String {
    let fits = question.splits(profile, profile.count).into_iter();
    let fits: Vec<usize> = fits.filter(|fit| fit.verdict.is_ok()).map(|fit| fit.split).collect();
    let shipped = DeviceProfile::shipped();
    match (fits.is_empty(), question.cheapest(&of_profiles(&shipped))) {
        (false, _) => format!("a split of {} would fit", either(&fits)),
        (true, Some((other, split))) => format!("{split} × {} would do", other.name()),
        (true, None) => "use lower precisions or a smaller context".into(),
    }
}

fn report(memory: &MemoryPlan) -> MemoryReport {
    MemoryReport {
        weights: memory.weights,
        kv_pool: memory.kv_pool(),
        pools: memory.pools.len(),
        page: memory.page(),
        workspace: memory.workspace,
    }
}

/// Says the model's tokens that are words by themselves.
fn speech(model: &Model) -> Speech {
    let pieces = model.tokenizer.pieces();
    let most = pieces.count().min(model.description.vocabulary) as u32;
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
        end: model.defaults.end_ids.first().copied(),
        median: MEDIAN_LENGTH,
        sigma: LENGTH_SIGMA,
    }
}

/// Returns the time of steps: what the cost model predicts, and a little more or less.
fn time(cost: CostModel) -> StepTime {
    let steps = std::cell::Cell::new(0);
    Box::new(move |rows| {
        let of = |(tokens, start, chooses)| CostRow { tokens, start, chooses };
        let predicted = cost.step(&rows.map(of).collect::<Vec<CostRow>>()).total();
        let jitter = JITTER * (2.0 * Random::new(0, 0, steps.replace(steps.get() + 1)).unit() - 1.0);
        Duration::from_secs_f64(predicted * (1.0 + jitter))
    })
}

/// Computes on devices for so long, when it is its turn on all of them.
fn occupy(turns: Vec<Turn>) -> impl FnMut(Duration) + Send {
    move |time| {
        let _turns: Vec<_> = turns.iter().map(|turn| turn.blocking_lock()).collect();
        std::thread::sleep(time);
    }
}
