//! Models to run and requests to run on them.

use std::path::{Path, PathBuf};
use std::sync::Arc;
use vastrelay_engine::cpu::CpuSettings;
use vastrelay_engine::{
    CpuExecutor, EndReason, Engine, Event, GenerationRequest, Limits, PAGE_TOKENS, PoolLimits, RequestMetrics, Sampling,
};
use vastrelay_kernels::Isa;
use vastrelay_kernels::attention::KvPrecision;
use vastrelay_text::{TokenPieces, Tokenizer};
use vastrelay_weights::description::AttentionReach;
use vastrelay_weights::{Checkpoint, ModelDescription, Precision};

/// The demo model.
pub fn demo() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/models/pierdesk-1")
}

/// A file of the reference.
pub fn fixture(name: &str) -> serde_json::Value {
    let path = Path::new(env!("CARGO_MANIFEST_DIR"))
        .join("../../demo/reference/fixtures")
        .join(format!("{name}.json"));
    serde_json::from_slice(&std::fs::read(path).unwrap()).unwrap()
}

/// How an engine is set up; the default has room for everything.
#[derive(Clone, Copy)]
pub struct Setup {
    pub isa: Isa,
    pub cores: usize,
    pub split: usize,
    pub width: usize,
    pub prefill_chunk: Option<usize>,
    pub pages: usize,
    /// Pages for layers with a window, where others see all.
    pub near_pages: usize,
    pub weights: Precision,
    pub kv: KvPrecision,
}

impl Default for Setup {
    fn default() -> Setup {
        Setup {
            isa: Isa::detect(),
            cores: 1,
            split: 1,
            width: 32,
            prefill_chunk: None,
            pages: 1024,
            near_pages: 1024,
            weights: Precision::AsStored,
            kv: KvPrecision::F32,
        }
    }
}

/// Loads a folder.
pub fn executor(folder: &Path, setup: Setup) -> (CpuExecutor, Arc<TokenPieces>, ModelDescription) {
    let description = ModelDescription::open(folder).unwrap();
    let settings = CpuSettings {
        isa: setup.isa,
        cores: setup.cores,
        spinning: Default::default(),
        split: setup.split,
        context: description.context,
        step_tokens: 256,
        width: 16,
        pages: pools(&description, setup).iter().map(|pool| pool.pages).collect(),
        weights: setup.weights,
        kv: setup.kv,
    };
    let executor = CpuExecutor::load(&Checkpoint::open(folder).unwrap(), &description, settings).unwrap();
    (executor, Tokenizer::open(folder).unwrap().pieces().clone(), description)
}

fn pools(description: &ModelDescription, setup: Setup) -> Vec<PoolLimits> {
    let reaches = description.reaches().into_iter().enumerate();
    let pool = |(number, reach): (usize, AttentionReach)| PoolLimits {
        pages: if number == 0 { setup.pages } else { setup.near_pages },
        window: reach.window,
    };
    reaches.map(pool).collect()
}

/// Starts an engine on a folder.
pub fn engine(folder: &Path, setup: Setup) -> Engine {
    let (executor, pieces, description) = executor(folder, setup);
    let limits = Limits {
        width: setup.width,
        step_budget: 256,
        context: description.context.min(setup.pages * PAGE_TOKENS),
        queue_depth: 1000,
        queue_wait: None,
        pools: pools(&description, setup),
        prefill_chunk: setup.prefill_chunk,
    };
    Engine::start(Box::new(executor), pieces, limits, "test".into())
}

/// A greedy request for exactly so many tokens.
pub fn greedy(prompt: Vec<u32>, tokens: usize) -> GenerationRequest {
    GenerationRequest {
        sampling: Sampling {
            temperature: 0.0,
            ..Sampling::default()
        },
        top_logprobs: Some(2),
        ..GenerationRequest::new(prompt, tokens)
    }
}

/// What a completion came to; log-probabilities as bits, so that equal means equal.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Completion {
    pub ids: Vec<u32>,
    pub logprobs: Vec<u32>,
    pub text: String,
}

/// Runs a request with one completion.
pub async fn run(engine: &Engine, request: GenerationRequest) -> (Completion, RequestMetrics) {
    let mut all = run_all(engine, request).await;
    assert_eq!(all.len(), 1);
    let (completion, _, metrics) = all.remove(0);
    (completion, metrics)
}

/// Runs a request and returns each of its completions.
pub async fn run_all(engine: &Engine, request: GenerationRequest) -> Vec<(Completion, EndReason, RequestMetrics)> {
    let mut done: Vec<(Completion, Option<(EndReason, RequestMetrics)>)> =
        vec![Default::default(); request.choices as usize];
    let mut stream = engine.submit(vec![request]).await.unwrap();
    while let Some(event) = stream.next().await {
        match event {
            Event::Admitted { .. } | Event::Prompt { .. } => {}
            Event::Piece(piece) => {
                let completion = &mut done[piece.choice as usize].0;
                completion.ids.extend(&piece.ids);
                completion
                    .logprobs
                    .extend(piece.logprobs.iter().map(|(token, _)| token.logprob.to_bits()));
                completion.text.push_str(&piece.text);
            }
            Event::Ended {
                choice,
                text,
                reason,
                metrics,
            } => {
                done[choice as usize].0.text.push_str(&text);
                done[choice as usize].1 = Some((reason, *metrics));
            }
            Event::Failed(reason) => panic!("{reason}"),
        }
    }
    done.into_iter()
        .map(|(completion, end)| {
            let (reason, metrics) = end.expect("every completion ends");
            (completion, reason, metrics)
        })
        .collect()
}
