//! What callers are told when the device breaks: in the middle of an answer, and ever after.

mod served;

use serde_json::{Value, json};
use std::sync::Arc;
use vastrelay_engine::cpu::CpuSettings;
use vastrelay_engine::executor::{ExecutorError, Report, StepBatch};
use vastrelay_engine::{CpuExecutor, Engine, Executor, MemoryReport};
use vastrelay_serving::{KvPrecision, Precision};
use vastrelay_weights::Checkpoint;

/// The CPU, until it breaks.
struct Breaking {
    device: CpuExecutor,
    steps_left: usize,
    panics: bool,
}

impl Executor for Breaking {
    fn memory(&self) -> MemoryReport {
        self.device.memory()
    }

    fn vocabulary(&self) -> usize {
        self.device.vocabulary()
    }

    fn submit(&mut self, batch: Arc<StepBatch>, report: &Report) -> Result<(), ExecutorError> {
        if self.steps_left == 0 {
            assert!(!self.panics, "it ran into a wall");
            report(Err(ExecutorError("it lost its memory".into())));
            return Ok(());
        }
        self.steps_left -= 1;
        self.device.submit(batch, report)
    }
}

/// Serves the demo model on a device that breaks, or panics, after some steps; returns the address.
fn serve(steps: usize, panics: bool) -> (String, tempfile::TempDir) {
    served::serve(|model, replica| {
        let limits = replica.generate.limits().clone();
        let settings = CpuSettings {
            isa: vastrelay_kernels::Isa::detect(),
            cores: 1,
            spinning: Default::default(),
            split: 1,
            context: limits.context,
            step_tokens: limits.step_budget,
            width: limits.width,
            pages: limits.pools.iter().map(|pool| pool.pages).collect(),
            weights: Precision::AsStored,
            kv: KvPrecision::F32,
        };
        let checkpoint = Checkpoint::open(&served::demo::folder()).unwrap();
        let device = Breaking {
            device: CpuExecutor::load(&checkpoint, &model.description, settings).unwrap(),
            steps_left: steps,
            panics,
        };
        let pieces = model.tokenizer.pieces().clone();
        Arc::new(Engine::start(Box::new(device), pieces, limits, "breaking".into()))
    })
}

fn question(stream: bool) -> Value {
    json!({"model": "pierdesk", "max_tokens": 40, "min_tokens": 40, "stream": stream, "temperature": 0,
        "messages": [{"role": "user", "content": "When is the last boat back on Sunday?"}]})
}

async fn ask(url: &str, stream: bool) -> (u16, String) {
    let client = reqwest::Client::new();
    let call = client
        .post(format!("{url}/v1/chat/completions"))
        .json(&question(stream));
    let answer = call.send().await.unwrap();
    (answer.status().as_u16(), answer.text().await.unwrap())
}

fn error(text: &str) -> (String, String) {
    let answer: Value = serde_json::from_str(text).unwrap();
    let field = |name: &str| answer["error"][name].as_str().unwrap().to_owned();
    (field("code"), field("message"))
}

const BROKEN: &str = "the device failed: it lost its memory";

#[tokio::test]
async fn a_whole_answer_that_breaks_off_is_an_internal_error_and_later_calls_find_the_engine_stopped() {
    let (url, _data) = serve(5, false);
    let (status, text) = ask(&url, false).await;
    assert_eq!((status, error(&text)), (500, ("internal".into(), BROKEN.into())));
    let (status, text) = ask(&url, false).await;
    let stopped = format!("the engine has stopped: {BROKEN}");
    assert_eq!((status, error(&text)), (503, ("engine_stopped".into(), stopped)));
    let ready = reqwest::get(format!("{url}/health/ready")).await.unwrap();
    assert_eq!(ready.status().as_u16(), 503);
}

#[tokio::test]
async fn a_stream_that_breaks_off_ends_with_an_error_frame() {
    let (url, _data) = serve(5, false);
    let (status, text) = ask(&url, true).await;
    assert_eq!(status, 200);
    let frames: Vec<&str> = text.split("\n\n").filter(|frame| !frame.is_empty()).collect();
    assert!(frames.len() > 2, "tokens came before it broke: {text}");
    let last = frames.last().unwrap().strip_prefix("data: ").unwrap();
    assert_eq!(error(last), ("internal".into(), BROKEN.into()));
}

#[tokio::test]
async fn an_engine_that_panics_ends_answers_with_an_error_and_never_as_a_success() {
    for stream in [false, true] {
        let (url, _data) = serve(5, true);
        let (status, text) = ask(&url, stream).await;
        let last = text.split("\n\n").filter(|frame| !frame.is_empty()).last().unwrap();
        assert_eq!(status, if stream { 200 } else { 500 });
        assert!(
            !text.contains("[DONE]") && !text.contains("\"finish_reason\":\"\""),
            "{text}"
        );
        let (code, message) = error(last.trim_start_matches("data: "));
        assert_eq!(code, "internal");
        assert!(message.contains("it ran into a wall"), "{message}");
        let (status, text) = ask(&url, stream).await;
        assert_eq!((status, error(&text).0.as_str()), (503, "engine_stopped"));
    }
}
