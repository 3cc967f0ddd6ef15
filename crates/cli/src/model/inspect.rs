//! `vastrelay model inspect`: what a path holds, without a service and without loading it.

use crate::args::model::ModelInspectOptions;
use crate::failure::Failure;
use crate::machine::{device_memory, machine_cores};
use crate::memory;
use crate::output::{json, line, precision_name};
use serde::Serialize;
use std::path::Path;
use vastrelay_planner::accelerator::Placement;
use vastrelay_planner::amounts::{bytes, grouped};
use vastrelay_planner::{MemoryPlan, MemoryRequest, Sizes, Typical, Usual};
use vastrelay_service::manage::fitting::Subject;
use vastrelay_serving::measurement::cpu::sizes_on_cpu;
use vastrelay_serving::models::model::texts;
use vastrelay_serving::models::origin::Shape;
use vastrelay_serving::{KvPrecision, Origin, Precision};
use vastrelay_weights::place::unused_beside;
use vastrelay_weights::precision::Precisions;
use vastrelay_weights::split::either;
use vastrelay_weights::{Build, Checkpoint, GenerationDefaults, Kind, ModelDescription, ModelFiles};

/// The findings about a path.
#[derive(Default, Serialize)]
struct Inspection {
    path: String,
    format: &'static str,
    /// The precision that its matrices would have.
    weights: &'static str,
    /// Weights that share a scale, where they do.
    group: Option<usize>,
    architecture: String,
    parameters: usize,
    layers: usize,
    width: usize,
    heads: usize,
    kv_heads: usize,
    head_dim: usize,
    context: usize,
    vocabulary: usize,
    tied_head: bool,
    /// The numbers of shards that it can be divided into.
    splits: Vec<usize>,
    /// The number that memory is reckoned for.
    split: usize,
    stored: Vec<StoredType>,
    stored_bytes: usize,
    /// Once it runs, in the precision that was asked for.
    loaded_bytes: usize,
    /// Absent for a config by itself.
    tokens: Option<usize>,
    template: Option<bool>,
    end_tokens: Vec<EndToken>,
    /// Whether the kernels round activations to 8 bits, as they do with int8 and int4 weights.
    rounds_activations: bool,
    /// Files beside the weights that are not used.
    unused: Vec<String>,
    /// Tensors that are missing, extra or misshapen; empty when it can run.
    problems: Vec<String>,
    fit: Fit,
}

#[derive(Serialize)]
struct StoredType {
    name: String,
    tensors: usize,
    bytes: usize,
}

#[derive(Serialize)]
struct EndToken {
    id: u32,
    text: String,
}

/// Whether it fits this machine, with the usual settings.
#[derive(Default, Serialize)]
struct Fit {
    fits: bool,
    lines: Vec<String>,
    /// Bytes of the weights once loaded.
    #[serde(skip)]
    weights: usize,
}

/// Says what a folder or a file holds and whether it would run here.
pub fn run(options: &ModelInspectOptions) -> Result<(), Failure> {
    let found = inspect(options)?;
    if options.json {
        json(&found)?;
    } else {
        print(&found);
    }
    match found.problems.len() {
        0 => Ok(()),
        1 => Err(Failure::failed("the model cannot run: one tensor is invalid")),
        count => Err(Failure::failed(format!(
            "the model cannot run: {count} tensors are invalid"
        ))),
    }
}

fn inspect(options: &ModelInspectOptions) -> Result<Inspection, Failure> {
    let path = &options.path;
    if path.is_file() && path.extension().is_some_and(|ending| ending == "json") {
        return of_config(options);
    }
    let files = ModelFiles::open(path).map_err(Failure::failed)?;
    let model = ModelDescription::read(&files).map_err(Failure::failed)?;
    let origin = if Build::is_one(path) {
        Origin::Build(Build::open(path).map_err(Failure::failed)?)
    } else {
        Origin::Checkpoint(Checkpoint::read(&files).map_err(Failure::failed)?)
    };
    // A build was checked when it was made; it is of one piece.
    let (format, types, stored_bytes, problems) = match &origin {
        Origin::Build(build) => ("build", build.types(), build.bytes(), Vec::new()),
        Origin::Checkpoint(checkpoint) => (
            if files.gguf().is_some() { "GGUF" } else { "safetensors" },
            checkpoint.types(),
            checkpoint.stored_bytes(),
            model.problems(checkpoint),
        ),
    };
    model.check_split(options.split).map_err(Failure::usage)?;
    check_context(options, &model)?;
    let (tokenizer, template) = texts(&files).map_err(Failure::failed)?;
    let ends = GenerationDefaults::read(&files).map_err(Failure::failed)?.end_ids;
    let weights = options.precision.weights()?;
    let kv = options.precision.kv.map_or(origin.usual_kv(), Into::into);
    let precision = origin.precision(weights);
    let loaded_bytes = origin.weight_bytes(&model, weights, options.split);
    let stored = types
        .into_iter()
        .map(|(name, (tensors, bytes))| StoredType { name, tensors, bytes });
    let end = |id: &u32| EndToken {
        id: *id,
        text: tokenizer.pieces().text(&[*id]),
    };
    Ok(Inspection {
        format,
        weights: precision.word(),
        group: precision.group(),
        stored: stored.collect(),
        stored_bytes,
        loaded_bytes,
        tokens: Some(tokenizer.pieces().count()),
        template: Some(template.is_some()),
        end_tokens: ends.iter().map(end).collect(),
        rounds_activations: rounds_activations(&origin, precision),
        unused: unused_beside(path),
        problems: problems.iter().map(ToString::to_string).collect(),
        fit: fit(options, &model, kv, |shape| origin.sizes(&model, shape), weights),
        ..described(options, &model)
    })
}

/// Returns what the description of a model says, and nothing of its weights.
fn described(options: &ModelInspectOptions, model: &ModelDescription) -> Inspection {
    Inspection {
        path: options.path.display().to_string(),
        architecture: model.architecture.clone(),
        parameters: model.parameters(),
        layers: model.layers,
        width: model.width,
        heads: model.heads,
        kv_heads: model.kv_heads,
        head_dim: model.head_dim,
        context: model.context,
        vocabulary: model.vocabulary,
        tied_head: model.tied_head,
        splits: model.splits(),
        split: options.split,
        ..Inspection::default()
    }
}

/// Says what a config by itself tells: everything but tensors, tokenizer and template.
fn of_config(options: &ModelInspectOptions) -> Result<Inspection, Failure> {
    let subject = Subject::open(&options.path).map_err(Failure::failed)?;
    let model = &subject.description;
    model.check_split(options.split).map_err(Failure::usage)?;
    check_context(options, model)?;
    let weights = options.precision.weights()?;
    let kv = options.precision.kv.map_or(KvPrecision::default(), Into::into);
    let stored = |tensor: &str| subject.kind(tensor);
    let sizes = |shape: Shape| {
        let placement = Placement {
            model,
            stored: &stored,
            precisions: Precisions { weights, kv },
            split: shape.split,
            width: shape.width,
            step_budget: shape.step_budget,
            context: shape.context,
        };
        sizes_on_cpu(&placement, shape.cores)
    };
    let fit = fit(options, model, kv, sizes, weights);
    Ok(Inspection {
        format: "config alone, without weights",
        weights: weights.word(),
        group: weights.group(),
        stored: Vec::new(),
        stored_bytes: 0,
        loaded_bytes: fit.weights,
        tokens: None,
        template: None,
        end_tokens: Vec::new(),
        rounds_activations: weights.group().is_some(),
        unused: Vec::new(),
        problems: Vec::new(),
        fit,
        ..described(options, model)
    })
}

/// Refuses a context that the model does not support.
fn check_context(options: &ModelInspectOptions, model: &ModelDescription) -> Result<(), Failure> {
    match options.context.filter(|context| !(1..=model.context).contains(context)) {
        None => Ok(()),
        Some(context) => Err(Failure::usage(format!(
            "--context: {context} does not work; this model supports 1 to {}",
            model.context
        ))),
    }
}

/// Returns whether activations are rounded to 8 bits: they are wherever weights are small numbers that share scales.
fn rounds_activations(origin: &Origin, precision: Precision) -> bool {
    match origin {
        Origin::Checkpoint(checkpoint) if precision == Precision::AsStored => checkpoint
            .names()
            .any(|name| matches!(checkpoint.kind(name), Kind::Groups { .. })),
        _ => precision.group().is_some(),
    }
}

fn fit(
    options: &ModelInspectOptions,
    model: &ModelDescription,
    kv: KvPrecision,
    sizes: impl Fn(Shape) -> Sizes,
    weights: Precision,
) -> Fit {
    let device = device_memory();
    let usual = Usual::on_cpu(device, None);
    let budget = (device as f64 * options.memory_share.unwrap_or(usual.memory_share)) as usize;
    let context = options.context.unwrap_or(model.context);
    let shape = Shape {
        weights,
        kv,
        split: options.split,
        cores: machine_cores().usual(options.split),
        step_budget: options.step_budget.unwrap_or(usual.step_budget),
        width: options.width.unwrap_or(usual.width),
        context,
    };
    let request = MemoryRequest {
        device,
        budget,
        width: options.width.unwrap_or(usual.width),
        step_budget: options.step_budget.unwrap_or(usual.step_budget),
        context,
        typical: Typical::usual(context).tokens(),
        pages: None,
    };
    let sizes = sizes(shape);
    match MemoryPlan::new(&sizes, request) {
        Ok(plan) => Fit {
            fits: true,
            lines: memory::lines(&plan, kv, false),
            weights: plan.weights,
        },
        Err(reason) => Fit {
            fits: false,
            lines: vec![reason.to_string()],
            weights: sizes.weights,
        },
    }
}

fn print(found: &Inspection) {
    let row = |name: &str, value: String| line(format!("  {name:<14}{value}"));
    let name = Path::new(&found.path)
        .file_name()
        .unwrap_or_default()
        .to_string_lossy()
        .into_owned();
    line(format!(
        "{name}: {}, {} parameters",
        found.architecture,
        grouped(found.parameters)
    ));
    row(
        "format",
        format!(
            "{}, {}{} once loaded",
            found.format,
            match found.stored_bytes {
                0 => String::new(),
                stored => format!("{} stored, ", bytes(stored)),
            },
            bytes(found.loaded_bytes)
        ),
    );
    for stored in &found.stored {
        row(
            "",
            format!(
                "{:<6} {:>4} tensors  {:>10}",
                stored.name,
                stored.tensors,
                bytes(stored.bytes)
            ),
        );
    }
    let head = if found.tied_head {
        "the embedding is its head"
    } else {
        "a head of its own"
    };
    row(
        "layers",
        format!(
            "{} of width {}, {} heads of {}, {} for keys and values, {head}",
            found.layers, found.width, found.heads, found.head_dim, found.kv_heads
        ),
    );
    row(
        "splits",
        match found.splits.as_slice() {
            [_] => "1 shard only: no other number divides its heads and widths".into(),
            splits => format!("{} shards", either(splits)),
        },
    );
    row("context", format!("{} tokens", grouped(found.context)));
    row(
        "vocabulary",
        format!(
            "{} tokens, {}",
            grouped(found.vocabulary),
            found
                .tokens
                .map_or("the tokenizer is not here".into(), |tokens| format!(
                    "{} in the tokenizer",
                    grouped(tokens)
                ))
        ),
    );
    row(
        "template",
        match found.template {
            Some(true) => "there is one: chat works".into(),
            Some(false) => "none: plain completions only".into(),
            None => "not known: it stands beside the config".into(),
        },
    );
    let ends: Vec<String> = found
        .end_tokens
        .iter()
        .map(|end| format!("{} `{}`", end.id, end.text))
        .collect();
    row(
        "ends at",
        if found.tokens.is_none() {
            "not known: the tokenizer is not here".into()
        } else if ends.is_empty() {
            "no token: answers end by their length".into()
        } else {
            ends.join(", ")
        },
    );
    let shards = if found.split > 1 {
        format!(", over {} shards", found.split)
    } else {
        String::new()
    };
    let weights = precision_name(found.weights, found.group);
    row("runs on", format!("cpu, weights {weights}{shards}"));
    if found.rounds_activations {
        row(
            "",
            "activations are rounded to 8 bits, each by at most 1/254 of the largest in its group; \
             `vastrelay model build` measures what that and the weights lose"
                .into(),
        );
    }
    for unused in &found.unused {
        row("not used", unused.clone());
    }
    let verdict = if found.fit.fits {
        "it fits this machine"
    } else {
        "it does not fit this machine"
    };
    row("memory", verdict.into());
    found.fit.lines.iter().for_each(|text| line(format!("    {text}")));
    if !found.problems.is_empty() {
        row("tensors", format!("{} are invalid", found.problems.len()));
        found
            .problems
            .iter()
            .take(20)
            .for_each(|problem| line(format!("    {problem}")));
    }
}
