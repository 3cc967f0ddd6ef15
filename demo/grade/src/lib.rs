//! Grades the demo model: do its greedy answers to held-out questions hold the facts, and none that contradict them?
//!
//! An answer passes when it contains every required fact, and when every time, price, number, day, pier and vessel in it
//! also stands in the canonical answer.
#![warn(missing_docs)]

use anyhow::{Context, Result, bail};
use regex::Regex;
use serde::Deserialize;
use std::collections::BTreeSet;
use std::path::{Path, PathBuf};
use vastrelay_engine::{Event, GenerationRequest, Sampling};
use vastrelay_serving::{CoreRequest, Cores, Device, Isa, Model, Precision, Replica, ReplicaSettings};
use vastrelay_text::Message;

/// One graded question or conversation.
#[derive(Debug, Deserialize)]
pub struct Item {
    /// What it is about.
    pub kind: String,
    /// What is said, the question last.
    pub messages: Vec<Message>,
    /// The canonical answer.
    pub answer: String,
    /// What every good answer holds.
    pub facts: Vec<String>,
}

/// One answer with its grade.
#[derive(Debug)]
pub struct Graded {
    /// The question.
    pub item: Item,
    /// What the model said.
    pub said: String,
    /// Why it failed, or `None` when it passed.
    pub fault: Option<String>,
}

/// Judges answers by the names and figures of the ferry world.
pub struct Grader {
    checkable: Regex,
}

#[derive(Deserialize)]
struct Routes {
    route: Vec<Route>,
}

#[derive(Deserialize)]
struct Route {
    pier: String,
}

#[derive(Deserialize)]
struct Vessels {
    vessel: Vec<Vessel>,
}

#[derive(Deserialize)]
struct Vessel {
    name: String,
}

/// Returns the folder of the demo world.
pub fn demo_folder() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR"))
        .parent()
        .expect("it lies in the demo folder")
        .to_owned()
}

impl Grader {
    /// Reads the names of piers and vessels.
    ///
    /// # Errors
    /// When the world's files cannot be read.
    pub fn open(demo: &Path) -> Result<Grader> {
        let read = |name: &str| {
            std::fs::read_to_string(demo.join("world").join(name)).with_context(|| format!("reading {name}"))
        };
        let routes: Routes = toml::from_str(&read("routes.toml")?)?;
        let vessels: Vessels = toml::from_str(&read("vessels.toml")?)?;
        let names: Vec<String> = routes
            .route
            .into_iter()
            .map(|r| r.pier)
            .chain(vessels.vessel.into_iter().map(|v| v.name))
            .map(|n| regex::escape(&n))
            .collect();
        let pattern = format!(
            r"\d\d:\d\d|£\d+\.\d\d|\d+|weekdays|Saturdays|Sundays|{}",
            names.join("|")
        );
        Ok(Grader {
            checkable: Regex::new(&pattern)?,
        })
    }

    /// Returns what is wrong with an answer, or `None`.
    pub fn fault(&self, item: &Item, said: &str) -> Option<String> {
        if let Some(fact) = item.facts.iter().find(|fact| !said.contains(fact.as_str())) {
            return Some(format!("`{fact}` is missing"));
        }
        let find = |text: &str| -> BTreeSet<String> {
            self.checkable.find_iter(text).map(|m| m.as_str().to_owned()).collect()
        };
        let known = find(&item.answer);
        find(said)
            .into_iter()
            .find(|found| !known.contains(found))
            .map(|found| format!("`{found}` contradicts the answer"))
    }
}

/// Reads a held-out set.
///
/// # Errors
/// When it cannot be read.
pub fn read_set(demo: &Path, name: &str) -> Result<Vec<Item>> {
    let path = demo.join("held-out").join(format!("{name}.jsonl"));
    let text = std::fs::read_to_string(&path).with_context(|| format!("reading {}", path.display()))?;
    text.lines().map(|line| Ok(serde_json::from_str(line)?)).collect()
}

/// A model that answers.
pub struct Loaded {
    /// Its text side.
    pub model: Model,
    /// What runs it.
    pub replica: Replica,
}

/// Loads a model with room for a batch of questions.
///
/// # Errors
/// When it cannot be served.
pub fn load(folder: &Path) -> Result<Loaded> {
    let cores = std::thread::available_parallelism().map_or(1, usize::from);
    let settings = ReplicaSettings {
        width: 32,
        step_budget: 512,
        context: None,
        queue_depth: 1000,
        queue_wait: None,
        prefill_chunk: None,
        isa: Isa::detect(),
        cores: CoreRequest::Free { least: 1, most: cores },
        split: 1,
        memory_share: 1.0,
        pages: None,
        typical: None,
        device: Device::cpu(2 << 30, Cores::part(cores), || usize::MAX),
        weights: Precision::AsStored,
        kv: None,
    };
    let model = Model::open(folder)?;
    let replica = Replica::load(&model, folder, &settings)?;
    Ok(Loaded { model, replica })
}

/// Asks everything at once, greedily, and grades the answers.
///
/// # Errors
/// When the engine fails.
pub async fn grade(loaded: &Loaded, grader: &Grader, items: Vec<Item>) -> Result<Vec<Graded>> {
    let answers = items.into_iter().map(|item| async move {
        let said = answer(loaded, &item.messages).await?;
        let fault = grader.fault(&item, &said);
        anyhow::Ok(Graded { item, said, fault })
    });
    futures_util::future::try_join_all(answers).await
}

/// Returns the share of answers that passed.
pub fn pass_rate(graded: &[Graded]) -> f64 {
    graded.iter().filter(|graded| graded.fault.is_none()).count() as f64 / graded.len() as f64
}

async fn answer(loaded: &Loaded, messages: &[Message]) -> Result<String> {
    let Loaded { model, replica } = loaded;
    let template = model.template.as_ref().context("the demo model has a chat template")?;
    let prompt = model.tokenizer.encode(&template.render(messages, true)?, false)?;
    let request = GenerationRequest {
        name: "grade".into(),
        answers_apart: true,
        sampling: Sampling {
            temperature: 0.0,
            ..Sampling::default()
        },
        end_ids: model.defaults.end_ids.clone(),
        ..GenerationRequest::new(prompt, 400)
    };
    let mut stream = replica.generate.submit(vec![request]).await?;
    let mut said = String::new();
    while let Some(event) = stream.next().await {
        match event {
            Event::Piece(piece) => said.push_str(&piece.text),
            Event::Ended { text, .. } => said.push_str(&text),
            Event::Failed(reason) => bail!("the engine failed: {reason}"),
            Event::Admitted { .. } | Event::Prompt { .. } => {}
        }
    }
    Ok(said)
}
