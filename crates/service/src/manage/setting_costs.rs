//! The costs of an endpoint's settings and of alternatives: memory and, if the speed of the device is known, speed.

use crate::manage::fitting::{Subject, prediction};
use crate::manage::setting_choices::{around, kvs, weights_beside};
use vastrelay_control::endpoints::endpoint::Endpoint;
use vastrelay_control::placement::loader::Loader;
use vastrelay_planner::accelerator::Placement;
use vastrelay_planner::memory::MemoryRequest;
use vastrelay_planner::{Hardware, MemoryPlan, Question, Sizes, Typical};
use vastrelay_serving::devices::device::ReplicaCores;
use vastrelay_serving::measurement::cpu::{CpuHardware, sizes_on_cpu};
use vastrelay_serving::replicas::replica::{MOST_STEP, MOST_WIDTH};
use vastrelay_serving::{KvPrecision, Precisions};
use vastrelay_weights::{Kind, ModelDescription};
use vastrelay_wire::manage::{EndpointCosts, SettingChoice, SettingCosts};

/// The settings that cost memory or time.
#[derive(Clone, Copy, Debug, PartialEq)]
struct Settings {
    precisions: Precisions,
    split: usize,
    width: usize,
    step_budget: usize,
    context: usize,
}

/// An endpoint whose settings are looked at.
struct Case<'a> {
    model: &'a ModelDescription,
    /// What its tensors are stored as.
    stored: &'a dyn Fn(&str) -> Kind,
    endpoint: &'a Endpoint,
    /// Its device, where its speed is known.
    hardware: Option<&'a dyn Hardware>,
    typical: Typical,
    /// KV pages, where somebody has said how many.
    pages: Option<usize>,
}

/// Returns what they cost.
pub(crate) fn costs(endpoint: &Endpoint, loader: &Loader) -> EndpointCosts {
    let subject = match Subject::open(endpoint.source()) {
        Ok(subject) => subject,
        Err(why) => {
            return EndpointCosts {
                why: Some(why),
                ..EndpointCosts::default()
            };
        }
    };
    let cpu = loader.cpu().filter(|cpu| is_that_of(cpu, endpoint));
    let profile = endpoint.device().profile().map(|profile| profile as &dyn Hardware);
    let said = endpoint.release_fingerprint().map(|fingerprint| &fingerprint.settings);
    let case = Case {
        model: &subject.description,
        stored: &|tensor| subject.kind(tensor),
        hardware: profile.or(cpu.as_ref().map(|cpu| cpu as &dyn Hardware)),
        typical: typical(said.and_then(|said| said.typical), endpoint.limits().context),
        pages: said.and_then(|said| said.pages),
        endpoint,
    };
    EndpointCosts {
        typical: [case.typical.prompt, case.typical.output],
        predicts: case.hardware.is_some(),
        settings: case.settings(),
        why: None,
    }
}

/// Whether the speed of a processor was measured with as many cores as an endpoint has for itself.
fn is_that_of(cpu: &CpuHardware, endpoint: &Endpoint) -> bool {
    let cores = endpoint.plan.cores.as_ref();
    cores.is_some_and(|cores| cores.threads() == cpu.cores && cores.are_its_own())
}

/// Returns a typical sequence that a context has room for.
fn typical(said: Option<Typical>, context: usize) -> Typical {
    said.filter(|said| said.tokens() <= context)
        .unwrap_or(Typical::usual(context))
}

impl Case<'_> {
    fn settings(&self) -> Vec<SettingCosts> {
        let now = self.now();
        let (weights, kv) = (now.precisions.weights, now.precisions.kv);
        let in_precisions = |weights, kv| Settings {
            precisions: Precisions { weights, kv },
            ..now
        };
        let with_width = |width| Settings {
            width,
            step_budget: now.step_budget.max(width),
            ..now
        };
        let steps = around(now.step_budget, now.width, MOST_STEP);
        let contexts = around(now.context, 1, self.model.context);
        let all = [
            self.setting(
                "precision.weights",
                weights_beside(weights),
                |weights| weights.to_string(),
                |weights| in_precisions(weights, kv),
            ),
            self.setting(
                "precision.kv",
                kvs(),
                |kv: KvPrecision| kv.name().into(),
                |kv| in_precisions(weights, kv),
            ),
            self.setting("batch.width", around(now.width, 1, MOST_WIDTH), text_of, with_width),
            self.setting("batch.context", contexts, text_of, |context| Settings {
                context,
                ..now
            }),
            self.setting("batch.step_budget", steps, text_of, |step_budget| Settings {
                step_budget,
                ..now
            }),
            self.setting("device.split", self.splits(now.split), text_of, |split| Settings {
                split,
                ..now
            }),
        ];
        all.into_iter().filter(|setting| setting.choices.len() > 1).collect()
    }

    /// Returns the settings as they are.
    fn now(&self) -> Settings {
        let (plan, limits) = (&self.endpoint.plan, self.endpoint.limits());
        Settings {
            precisions: plan.precisions,
            split: plan.assignment.split,
            width: limits.width,
            step_budget: limits.step_budget,
            context: limits.context,
        }
    }

    /// Returns a setting with values that it could have.
    fn setting<T: Copy>(
        &self,
        key: &str,
        values: Vec<T>,
        say: impl Fn(T) -> String,
        change: impl Fn(T) -> Settings,
    ) -> SettingCosts {
        let choice = |value: T| self.choice(say(value), change(value));
        SettingCosts {
            key: key.into(),
            choices: values.into_iter().map(choice).collect(),
        }
    }

    fn choice(&self, value: String, settings: Settings) -> SettingChoice {
        let planned = self.plan(settings);
        let predicted = self.hardware.filter(|_| planned.is_ok()).map(|hardware| {
            let fits = planned.as_ref().map_or(0, |plan| plan.typical_sequences().in_pool);
            let question = self.question(settings);
            prediction(&question.predictions(hardware, settings.split, fits, &[settings.width])[0])
        });
        SettingChoice {
            value,
            is_now: settings == self.now(),
            reserved: planned.as_ref().ok().map(MemoryPlan::total),
            full_sequences: planned.as_ref().ok().map(|plan| plan.full_sequences().at_once),
            typical_sequences: planned.as_ref().ok().map(|plan| plan.typical_sequences().at_once),
            predicted,
            reason: planned.err(),
        }
    }

    /// Plans the memory of other settings within what the endpoint may take now.
    fn plan(&self, settings: Settings) -> Result<MemoryPlan, String> {
        let question = self.question(settings);
        question
            .model
            .check_split(settings.split)
            .map_err(|error| error.to_string())?;
        let now = &self.endpoint.plan.memory;
        let request = MemoryRequest {
            device: now.device,
            budget: now.budget,
            width: settings.width,
            step_budget: settings.step_budget,
            context: settings.context,
            typical: question.typical.tokens(),
            pages: self.pages,
        };
        let sizes = self.sizes(&question.placement(settings.split));
        MemoryPlan::new(&sizes, request).map_err(|error| error.to_string())
    }

    fn sizes(&self, placement: &Placement<'_>) -> Sizes {
        match self.endpoint.device().profile() {
            Some(profile) => placement.sizes(profile),
            None => {
                let threads = self.endpoint.plan.cores.as_ref().map_or(1, ReplicaCores::threads);
                sizes_on_cpu(placement, threads.max(placement.split))
            }
        }
    }

    fn question(&self, settings: Settings) -> Question<'_> {
        Question {
            model: self.model,
            stored: self.stored,
            precisions: settings.precisions,
            width: settings.width,
            step_budget: settings.step_budget,
            context: settings.context,
            memory_share: 1.0,
            typical: typical(Some(self.typical), settings.context),
            concurrency: None,
        }
    }

    /// Returns other numbers of devices, or of shards, that the model can be divided over.
    fn splits(&self, now: usize) -> Vec<usize> {
        let device = self.endpoint.device();
        let most = device.cores().map_or(device.count(), |cores| cores.most);
        let works = |split: &usize| self.model.check_split(*split).is_ok();
        around(now, 1, most).into_iter().filter(works).collect()
    }
}

fn text_of(count: usize) -> String {
    count.to_string()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_typical_sequence_fits_into_the_context() {
        let said = Typical {
            prompt: 600,
            output: 200,
        };
        assert_eq!(typical(Some(said), 8_192), said);
        assert_eq!(typical(None, 8_192).tokens(), 2_048);
        let short = typical(Some(said), 100);
        assert_eq!((short.prompt, short.output), (75, 25));
    }
}
