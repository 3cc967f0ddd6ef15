//! What the engine's thread takes memory for.

use super::runner::Runner;
use super::{Command, Shared, Submission};
use crate::executor::{Executor, ExecutorError, MemoryReport, RowResult, StepBatch, StepHandle, StepResult, Want};
use crate::record::StepRing;
use crate::request::{Event, GenerationRequest};
use crate::sampling::{Chosen, Sampling};
use crate::scheduler::{Limits, PoolLimits};
use allocation_counter::measure;
use std::sync::{Arc, Mutex, mpsc as std_mpsc};
use tokio::sync::{mpsc, oneshot};
use vastrelay_text::{StopStrings, TokenPieces, Tokenizer};

/// A device that says the same token always, and has the engine stop after so many steps.
struct Parrot {
    steps: u64,
    most_steps: u64,
    commands: std_mpsc::Sender<Command>,
    samples: Vec<bool>,
    /// Who reads what it says.
    readers: Vec<mpsc::Receiver<Event>>,
}

impl Executor for Parrot {
    fn memory(&self) -> MemoryReport {
        MemoryReport::default()
    }

    fn submit(&mut self, batch: Arc<StepBatch>) -> Result<StepHandle, ExecutorError> {
        self.samples.clear();
        let samples = batch.rows.iter().map(|row| matches!(row.want, Want::Token(_)));
        self.samples.extend(samples);
        self.steps += 1;
        if self.steps == self.most_steps {
            let _ = self.commands.send(Command::Stop);
        }
        Ok(StepHandle(self.steps))
    }

    fn wait(&mut self, _: StepHandle) -> Result<StepResult, ExecutorError> {
        for reader in &mut self.readers {
            while reader.try_recv().is_ok() {}
        }
        let row = |samples: &bool| {
            let mut result = RowResult::default();
            if *samples {
                result.chosen.push(Chosen {
                    id: 300,
                    logprobs: None,
                });
            }
            result
        };
        Ok(StepResult {
            rows: self.samples.iter().map(row).collect(),
            ..StepResult::default()
        })
    }
}

fn pieces() -> Arc<TokenPieces> {
    let demo = concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo/models/pierdesk-1");
    Tokenizer::open(demo.as_ref()).unwrap().pieces().clone()
}

/// Runs so many sequences for so many steps on this thread; returns how often it took memory.
fn allocations(pieces: &Arc<TokenPieces>, sequences: u64, steps: u64, sampling: &Sampling) -> u64 {
    let shared = Arc::new(Shared {
        status: Mutex::default(),
        ring: Mutex::new(StepRing::new(4)),
        started: std::time::Instant::now(),
        next_request: Default::default(),
    });
    let limits = Limits {
        width: 32,
        step_budget: 512,
        context: 512,
        queue_depth: 64,
        pools: vec![PoolLimits {
            pages: 512,
            window: None,
        }],
        prefill_chunk: None,
    };
    let (commands, inbox) = std_mpsc::channel();
    let (mut readers, mut answers): (Vec<mpsc::Receiver<Event>>, Vec<_>) = Default::default();
    for number in 0..sequences {
        let (events, reader) = mpsc::channel(512);
        readers.push(reader);
        let (accepted, answer) = oneshot::channel();
        answers.push(answer);
        let request = GenerationRequest {
            name: "test".into(),
            prompt: vec![5, 6, 7 + number as u32],
            answers_apart: false,
            most_tokens: 256,
            choices: 1,
            sampling: sampling.clone(),
            end_ids: vec![1],
            least_tokens: 256,
            stop: StopStrings::new(&["never said"]),
            top_logprobs: None,
            score_prompt: None,
            priority: 0,
            time_limit: None,
            adapter: String::new(),
            cache_salt: String::new(),
        };
        let submission = Submission {
            request,
            number,
            events,
            accepted,
            arrived: std::time::Instant::now(),
        };
        commands.send(Command::Submit(Box::new(submission))).unwrap();
    }
    let parrot = Parrot {
        steps: 0,
        most_steps: steps,
        commands,
        samples: Vec::new(),
        readers,
    };
    let mut runner = Runner::new(Box::new(parrot), pieces.clone(), limits, "parrot".into(), inbox, shared);
    measure(|| runner.run()).count_total
}

/// Returns how often a step takes memory once all sequences decode.
fn of_step(pieces: &Arc<TokenPieces>, sequences: u64, sampling: &Sampling) -> f64 {
    let [few, many] = [40, 140].map(|steps| allocations(pieces, sequences, steps, sampling));
    (many - few) as f64 / 100.0
}

#[test]
fn a_token_takes_no_memory() {
    let pieces = pieces();
    let penalties = Sampling {
        presence_penalty: 1.0,
        logit_bias: vec![(1, 1.0)],
        ..Sampling::default()
    };
    for sampling in [Sampling::default(), penalties] {
        let [one, many] = [1, 32].map(|sequences| of_step(&pieces, sequences, &sampling));
        // Debug builds copy the row's page table, to compare it.
        let copies = if cfg!(debug_assertions) { 2.0 } else { 0.0 };
        // The device's list of results; one of this product makes it on a thread of its own.
        let of_device = 1.0;
        // What is left is for lists that grow as sequences take pages, one in sixteen tokens.
        let message = format!("{one} of a step with one token, {many} of one with 32");
        assert!(one - copies - of_device < 0.2, "{message}");
        assert!((many - one) / 31.0 - copies < 0.1, "{message}");
    }
}
