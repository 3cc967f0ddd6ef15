//! How probable a prompt's tokens were: the same however it was read.

use crate::support::{Setup, demo, engine, executor, greedy, run};
use futures_util::future::join_all;
use vastrelay_engine::likelihood::likelihoods;
use vastrelay_engine::token::TokenLogprobs;
use vastrelay_engine::{EndReason, Engine, Event, GenerationRequest};
use vastrelay_text::Tokenizer;

/// Texts of which some begin alike.
fn prompts() -> Vec<Vec<u32>> {
    let tokenizer = Tokenizer::open(&demo()).unwrap();
    let text = |number: usize| {
        let lines = "The last boat back leaves Tolsay at 18:00 on Sundays. ".repeat(1 + number % 4);
        tokenizer
            .encode(&format!("{lines}Dogs travel free, number {number}."), false)
            .unwrap()
    };
    (0..8).map(text).collect()
}

fn scored(prompt: Vec<u32>, tokens: usize) -> GenerationRequest {
    GenerationRequest {
        logprobs_of_prompt: Some(3),
        ..greedy(prompt, tokens)
    }
}

/// Bits, so that equal means equal.
fn bits(logprobs: &[TokenLogprobs]) -> Vec<(u32, u32, Vec<u32>)> {
    let one = |(token, top): &TokenLogprobs| {
        let top = top.iter().map(|token| token.id).collect();
        (token.id, token.logprob.to_bits(), top)
    };
    logprobs.iter().map(one).collect()
}

/// What came of a request, in order.
struct Told {
    logprobs: Vec<TokenLogprobs>,
    tokens_before: usize,
    tokens: usize,
    ends: Vec<EndReason>,
    reused: usize,
}

async fn told(engine: &Engine, request: GenerationRequest) -> Told {
    let mut stream = engine.submit(vec![request]).await.unwrap();
    let (mut heard, mut ends, mut before, mut tokens, mut reused) = (None, Vec::new(), 0, 0, 0);
    while let Some(event) = stream.next().await {
        match event {
            Event::Admitted { .. } => {}
            Event::Prompt { choice, logprobs } => {
                assert_eq!(choice, 0);
                assert!(heard.replace(logprobs).is_none(), "told once");
                before = tokens;
            }
            Event::Piece(piece) => tokens += piece.ids.len(),
            Event::Ended {
                reason,
                metrics,
                choice,
                ..
            } => {
                ends.push(reason);
                if choice == 0 {
                    reused = metrics.reused_tokens;
                }
            }
            Event::Failed(reason) => panic!("{reason}"),
        }
    }
    Told {
        logprobs: heard.expect("they were asked for"),
        tokens_before: before,
        tokens,
        ends,
        reused,
    }
}

/// Each text scored at once, with nobody else there.
fn alone() -> Vec<Vec<(u32, u32, Vec<u32>)>> {
    let (mut executor, ..) = executor(&demo(), Setup::default());
    let of = |prompt: Vec<u32>| {
        let logprobs = likelihoods(&mut executor, std::slice::from_ref(&prompt), 256, 3, |_| ()).unwrap();
        bits(&logprobs)
    };
    prompts().into_iter().map(of).collect()
}

#[tokio::test]
async fn they_are_the_same_in_any_company_chunks_shards_and_with_pages_of_before() {
    let wanted = alone();
    let chunks = |prefill_chunk| Setup {
        prefill_chunk: Some(prefill_chunk),
        ..Setup::default()
    };
    let tight = Setup {
        pages: 20,
        width: 8,
        ..chunks(16)
    };
    for (name, setup) in [
        ("at once", Setup::default()),
        ("chunks of 1", chunks(1)),
        ("chunks of 7", chunks(7)),
        ("chunks of 64", chunks(64)),
        ("few pages", tight),
    ] {
        let engine = engine(&demo(), setup);
        for round in ["first", "second"] {
            let answers = join_all(prompts().into_iter().map(|prompt| told(&engine, scored(prompt, 24)))).await;
            for (answer, wanted) in answers.iter().zip(&wanted) {
                assert_eq!(bits(&answer.logprobs), *wanted, "{name}, {round} round");
                assert_eq!((answer.tokens_before, answer.tokens, answer.reused), (0, 24, 0));
            }
        }
        if name == "few pages" {
            assert!(engine.status().preemptions > 0, "nothing was forced");
        }
        assert_eq!(engine.status().occupancy.pages_used, 0);
    }
}

#[tokio::test]
async fn over_shards_they_differ_by_rounding_only() {
    let split = Setup {
        split: 2,
        ..Setup::default()
    };
    let (whole, split) = (engine(&demo(), Setup::default()), engine(&demo(), split));
    let prompt = prompts().remove(3);
    let (one, other) = (
        told(&whole, scored(prompt.clone(), 1)).await.logprobs,
        told(&split, scored(prompt, 1)).await.logprobs,
    );
    assert_eq!(one.len(), other.len());
    for ((one, _), (other, _)) in one.iter().zip(&other) {
        assert!(
            one.id == other.id && (one.logprob - other.logprob).abs() < 2e-3,
            "{one:?} {other:?}"
        );
    }
}

#[tokio::test]
async fn a_prompt_may_be_read_without_an_answer() {
    let engine = engine(&demo(), Setup::default());
    let wanted = alone();
    for (prompt, wanted) in prompts().into_iter().zip(wanted) {
        let answer = told(&engine, scored(prompt, 0)).await;
        assert_eq!(bits(&answer.logprobs), wanted);
        assert_eq!((answer.tokens, answer.ends), (0, vec![EndReason::Length]));
    }
    assert_eq!(engine.status().occupancy.pages_used, 0);
}

#[tokio::test]
async fn completions_of_one_prompt_share_its_scores() {
    let engine = engine(&demo(), Setup::default());
    let request = GenerationRequest {
        choices: 3,
        ..scored(prompts().remove(2), 8)
    };
    let answer = told(&engine, request).await;
    assert_eq!(bits(&answer.logprobs), alone()[2]);
    assert_eq!((answer.tokens_before, answer.tokens, answer.ends.len()), (0, 24, 3));
}

#[tokio::test]
async fn one_token_alone_has_no_score_and_the_answer_is_that_of_the_prompt_without_them() {
    let engine = engine(&demo(), Setup::default());
    assert!(told(&engine, scored(vec![5], 2)).await.logprobs.is_empty());
    let prompt = prompts().remove(1);
    let (plain, _) = run(&engine, greedy(prompt.clone(), 24)).await;
    let (other, _) = run(&engine, scored(prompt, 24)).await;
    assert_eq!(plain, other);
}
