//! Does a model fit, and what would callers see? For the command line and for the console.

use crate::manage::capacity::capacity_status;
use std::path::Path;
use vastrelay_planner::{Fitting, Hardware, Prediction, Question, SplitFit, Typical, Usual};
use vastrelay_serving::replicas::replica::{MOST_STEP, MOST_WIDTH};
use vastrelay_weights::precision::{KvPrecision, Precisions};
use vastrelay_weights::{Build, Kind, ModelDescription, Precision, StoredAs};
use vastrelay_wire::manage::{FitCheapest, FitFigures, FitPrediction, FitReport, FitWay};

/// A model by its description, and what its tensors are stored as.
pub struct Subject {
    /// What it is called.
    pub name: String,
    /// What it is.
    pub description: ModelDescription,
    stored: StoredAs,
}

impl Subject {
    /// Reads a folder, a GGUF file or a config by itself.
    ///
    /// # Errors
    /// When it is none of these, or a build.
    pub fn open(path: &Path) -> Result<Subject, String> {
        if Build::is_one(path) {
            return Err(format!(
                "{} is a build for the cpu; use the checkpoint that it was made of",
                path.display()
            ));
        }
        let description = ModelDescription::open(path).map_err(|error| error.to_string())?;
        let stored = StoredAs::open(path).map_err(|error| error.to_string())?;
        let named = if path.ends_with("config.json") {
            path.parent()
        } else {
            Some(path)
        };
        let name = named.and_then(Path::file_name).unwrap_or(path.as_os_str());
        Ok(Subject {
            name: name.to_string_lossy().into_owned(),
            description,
            stored,
        })
    }

    /// Returns what a tensor is stored as.
    pub fn kind(&self, tensor: &str) -> Kind {
        self.stored.kind(tensor)
    }
}

/// How a model is to be run, as somebody asks.
#[derive(Clone, Copy, Debug)]
pub struct Ask {
    /// Precision of weights.
    pub weights: Precision,
    /// Precision of keys and values.
    pub kv: KvPrecision,
    /// Most devices.
    pub count: Option<usize>,
    /// Most tokens of a sequence; the model's own when absent.
    pub context: Option<usize>,
    /// Maximum sequences in a batch.
    pub width: Option<usize>,
    /// Most tokens in a step.
    pub step_budget: Option<usize>,
    /// Fraction of each device's memory.
    pub memory_share: Option<f64>,
    /// A typical sequence; the usual one of the context when absent.
    pub typical: Option<Typical>,
    /// Sequences that have to fit at once.
    pub concurrency: Option<usize>,
}

/// A part of what is asked cannot be.
#[derive(Clone, Debug)]
pub struct AskError {
    /// Which, as it is called in an address; on the command line with hyphens.
    pub field: &'static str,
    /// What is wrong, and what would work.
    pub text: String,
}

impl Ask {
    /// Returns the question for the arithmetic, about devices with these usual settings.
    ///
    /// # Errors
    /// When a part of it cannot be.
    pub fn question<'a>(
        &self,
        model: &'a ModelDescription,
        stored: &'a dyn Fn(&str) -> Kind,
        usual: Usual,
    ) -> Result<Question<'a>, AskError> {
        let refuse = |field, text: String| Err(AskError { field, text });
        let context = self.context.unwrap_or(model.context);
        if context == 0 || context > model.context {
            let most = model.context;
            return refuse(
                "context",
                format!("{context} does not work; this model supports 1 to {most}"),
            );
        }
        let typical = self.typical.unwrap_or(Typical::usual(context));
        let tokens = typical.tokens();
        if tokens > context {
            let text =
                format!("it has {tokens} tokens, more than the context of {context}; use {context} or fewer in all");
            return refuse("typical", text);
        }
        let memory_share = self.memory_share.unwrap_or(usual.memory_share);
        let width = self.width.unwrap_or(usual.width);
        let step_budget = self.step_budget.unwrap_or(usual.step_budget);
        if !(memory_share > 0.0 && memory_share <= 1.0) {
            return refuse("memory_share", "it has to be above 0 and at most 1".into());
        }
        for (field, value, most) in [
            ("width", width, MOST_WIDTH),
            ("step_budget", step_budget, MOST_STEP),
            ("count", self.count.unwrap_or(1), 1_024),
            ("concurrency", self.concurrency.unwrap_or(1), 1 << 20),
        ] {
            if value == 0 || value > most {
                return refuse(field, format!("{value} does not work; use 1 to {most}"));
            }
        }
        if step_budget < width {
            let text = format!("{} is less than the width of {}", step_budget, width);
            return refuse("step_budget", text);
        }
        Ok(Question {
            model,
            stored,
            precisions: Precisions {
                weights: self.weights,
                kv: self.kv,
            },
            width,
            step_budget,
            context,
            memory_share,
            typical,
            concurrency: self.concurrency,
        })
    }
}

/// Returns what was found; `known` are all devices that may be the cheapest.
pub fn report(name: &str, question: &Question<'_>, ways: Vec<FitWay>, known: &[&dyn Hardware]) -> FitReport {
    FitReport {
        model: name.to_owned(),
        parameters: question.model.parameters(),
        context: question.context,
        width: question.width,
        step_budget: question.step_budget,
        memory_share: question.memory_share,
        typical: [question.typical.prompt, question.typical.output],
        concurrency: question.concurrency,
        fits: ways.iter().any(|way| way.fitting.is_some()),
        cheapest: question.cheapest(known).map(|(hardware, split)| FitCheapest {
            device: hardware.name().to_owned(),
            split,
            price_per_hour: hardware.price() * split as f64,
            currency: hardware.currency().map(Into::into),
        }),
        ways,
    }
}

/// Returns what was found for devices and a split.
pub fn way(question: &Question<'_>, hardware: &dyn Hardware, fit: &SplitFit) -> FitWay {
    let precisions = question.precisions;
    let fitting = fit.verdict.as_ref().ok();
    FitWay {
        device: hardware.name().to_owned(),
        simulated: hardware.is_simulated(),
        currency: hardware.currency().map(Into::into),
        split: fit.split,
        weights: precisions.weights.word().to_owned(),
        group: precisions.weights.group(),
        kv: precisions.kv.name().to_owned(),
        reason: fit.verdict.as_ref().err().map(ToString::to_string),
        fitting: fitting.map(|fitting| metrics(question, fit.split, fitting)),
    }
}

fn metrics(question: &Question<'_>, split: usize, fitting: &Fitting) -> FitFigures {
    let Fitting { plan, predicted, .. } = fitting;
    FitFigures {
        memory_limit: plan.budget,
        weights_bytes: plan.weights,
        workspace_bytes: plan.workspace,
        process_bytes: plan.process,
        kv_pool_bytes: plan.kv_pool(),
        kv_bytes_per_token: question.placement(split).token_bytes(),
        copied_kv_bytes_per_token: fitting.copied,
        capacity: capacity_status(plan),
        predicted: prediction(predicted),
    }
}

/// Returns a prediction as it is told.
pub(crate) fn prediction(predicted: &Prediction) -> FitPrediction {
    FitPrediction {
        lanes: predicted.lanes,
        ttft: predicted.ttft,
        itl: predicted.itl,
        tokens_per_second: predicted.rate,
        price_per_million_tokens: predicted.million,
    }
}
