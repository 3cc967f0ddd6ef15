//! The memory that the engine's thread takes.

use super::core::{Effects, EngineCore, Input};
use super::frame::EngineCommand;
use crate::executor::{RowResult, StepBatch, StepResult, Want};
use crate::request::GenerationRequest;
use crate::sampling::{Chosen, Sampling};
use crate::scheduler::{Limits, PoolLimits};
use allocation_counter::measure;
use std::sync::Arc;
use vastrelay_text::{StopStrings, TokenPieces, Tokenizer};

fn pieces() -> Arc<TokenPieces> {
    let demo = concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo/models/pierdesk-1");
    Tokenizer::open(demo.as_ref()).unwrap().pieces().clone()
}

/// Returns an engine at which so many sequences have just entered the queue.
fn engine(pieces: &Arc<TokenPieces>, sequences: u32, sampling: &Sampling) -> EngineCore {
    let limits = Limits {
        width: 32,
        step_budget: 512,
        context: 512,
        queue_depth: 64,
        queue_wait: None,
        pools: vec![PoolLimits {
            pages: 512,
            window: None,
        }],
        prefill_chunk: None,
    };
    let mut core = EngineCore::new(pieces.clone(), limits, "parrot".into());
    let request = |number: u32| GenerationRequest {
        sampling: sampling.clone(),
        end_ids: vec![1],
        least_tokens: 256,
        stop: StopStrings::new(&["never said"]),
        ..GenerationRequest::new(vec![5, 6, 7 + number], 256)
    };
    for number in 0..sequences {
        let command = EngineCommand::Submit {
            call: number.into(),
            requests: vec![request(number)],
            arrived: 0,
        };
        core.handle(Input::Command(command), 0, &mut Effects::default());
    }
    core
}

/// Says the same token always.
fn parrot(batch: &StepBatch, results: &mut Vec<RowResult>) {
    results.extend(batch.rows.iter().map(|row| {
        let mut result = RowResult::default();
        if let Want::Token(_) = row.want {
            result.chosen.push(Chosen {
                id: 300,
                logprobs: None,
            });
        }
        result
    }));
}

/// Returns how often a step takes memory once all sequences decode, what the device and the readers take apart.
fn of_step(pieces: &Arc<TokenPieces>, sequences: u32, sampling: &Sampling) -> f64 {
    let mut core = engine(pieces, sequences, sampling);
    let mut effects = Effects::default();
    let mut taken = 0;
    for step in 0..140 {
        let mut count = |input| {
            let counted = measure(|| core.handle(input, step, &mut effects)).count_total;
            taken += if step < 40 { 0 } else { counted };
        };
        count(Input::Begin);
        let batch = effects.batch.take().unwrap();
        let mut rows = Vec::new();
        parrot(&batch, &mut rows);
        drop(batch);
        let mut count = |input| {
            let counted = measure(|| core.handle(input, step, &mut effects)).count_total;
            taken += if step < 40 { 0 } else { counted };
        };
        count(Input::Step(StepResult {
            rows,
            ..StepResult::default()
        }));
        effects.frame.events.clear();
        effects.frame.answers.clear();
        effects.spare = effects.frame.record.take();
    }
    taken as f64 / 100.0
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
        for sequences in [1, 32] {
            let step = of_step(&pieces, sequences, &sampling);
            // Debug builds copy the row's page table, to compare it.
            let copies = if cfg!(debug_assertions) { 2.0 } else { 0.0 };
            let each = step / f64::from(sequences) - copies;
            // What is left is for lists that grow as sequences take pages, one in sixteen tokens.
            assert!(each < 0.2, "{step} of a step with {sequences} tokens");
        }
    }
}
