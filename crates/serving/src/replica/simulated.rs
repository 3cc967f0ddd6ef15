//! Planning a replica on simulated devices: it takes their memory and their time, and says tokens of no meaning.

use super::{Plan, ReplicaSettings};
use crate::assignment::{Assignment, Place};
use crate::device::Take;
use crate::error::LoadError;
use crate::model::Model;
use std::sync::Arc;
use vastrelay_engine::MemoryReport;
use vastrelay_planner::hardware::of_profiles;
use vastrelay_planner::{DeviceProfile, MemoryPlan, Question, Typical, WhyNot};
use vastrelay_weights::precision::Precisions;
use vastrelay_weights::split::either;
use vastrelay_weights::{ModelFiles, StoredAs};

/// Places a model on simulated devices.
///
/// # Errors
/// When a setting cannot be, or the model does not fit; the text has the arithmetic and what would fit.
pub(super) fn plan(
    endpoint: &str,
    model: &Model,
    files: &ModelFiles,
    settings: &ReplicaSettings,
    profile: &DeviceProfile,
    context: usize,
) -> Result<Plan, LoadError> {
    let (path, stored) = (files.path(), StoredAs::read(files)?);
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
    let (held, memory) = device.hold(endpoint, settings.split, None, |room| {
        let wish = settings.wish(room.free, context);
        match MemoryPlan::new(&sizes, wish) {
            Ok(plan) => Ok((
                Take {
                    own: plan.total(),
                    read: 0,
                },
                plan,
            )),
            Err(source) if room.holders.is_empty() => Err(refused(source.into())),
            Err(source) => Err(LoadError::Memory {
                folder: path.to_owned(),
                source,
                holders: room.holders,
            }),
        }
    })?;
    Ok(Plan {
        device: device.clone(),
        precisions: question.precisions,
        instructions: "simulated",
        cores: None,
        assignment: Assignment {
            path: path.as_os_str().to_owned(),
            precisions: question.precisions,
            limits: settings.limits(&memory),
            split: settings.split,
            place: Place::Simulated {
                profile: Box::new(profile.clone()),
                memory: report(&memory),
                turns: held.turns().into_iter().map(Into::into).collect(),
            },
        },
        held: Arc::new(held),
        memory,
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
