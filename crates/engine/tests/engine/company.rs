//! Company changes nothing: neither the tokens nor a bit of their probabilities.

use crate::support::{Completion, Setup, demo, engine, greedy, run, run_all};
use futures_util::future::join_all;
use std::time::Duration;
use vastrelay_engine::{EndReason, Engine, Event, GenerationRequest, Refusal, Sampling};
use vastrelay_text::Tokenizer;

const TOKENS: usize = 40;

fn prompts() -> Vec<Vec<u32>> {
    let tokenizer = Tokenizer::open(&demo()).unwrap();
    let questions = [
        "When is the last boat back on Sunday?",
        "Can I bring my dog?",
        "How long does it take to Eddersay?",
    ];
    (0..16)
        .map(|n| {
            let turns: String = (0..=n % 4)
                .map(|turn| {
                    format!(
                        "<passenger>{}<over><desk>Please ask again, number {n}.<over>",
                        questions[(n + turn) % 3]
                    )
                })
                .collect();
            tokenizer
                .encode(
                    &format!("<hail>{turns}<passenger>{}<over><desk>", questions[n % 3]),
                    false,
                )
                .unwrap()
        })
        .collect()
}

fn sampled(prompt: Vec<u32>, seed: u64) -> GenerationRequest {
    let sampling = Sampling {
        temperature: 1.0,
        top_p: 0.95,
        repetition_penalty: 1.1,
        seed,
        ..Sampling::default()
    };
    GenerationRequest {
        sampling,
        ..greedy(prompt, TOKENS)
    }
}

/// Half of them greedy, half sampled with a seed of their own.
fn requests() -> Vec<GenerationRequest> {
    let mixed = |(n, prompt): (usize, Vec<u32>)| {
        if n % 2 == 0 {
            greedy(prompt, TOKENS)
        } else {
            sampled(prompt, n as u64)
        }
    };
    prompts().into_iter().enumerate().map(mixed).collect()
}

/// Each request on an engine of its own.
async fn alone() -> Vec<Completion> {
    let mut completions = Vec::new();
    for request in requests() {
        completions.push(run(&engine(&demo(), Setup::default()), request).await.0);
    }
    completions
}

async fn together(engine: &Engine) -> Vec<Completion> {
    join_all(requests().into_iter().map(|request| run(engine, request)))
        .await
        .into_iter()
        .map(|(c, _)| c)
        .collect()
}

#[tokio::test]
async fn tokens_are_the_same_alone_and_in_any_company() {
    let wanted = alone().await;
    assert!(wanted.iter().all(|completion| completion.ids.len() == TOKENS));
    let setups = [
        ("sixteen at once", Setup::default()),
        (
            "two cores",
            Setup {
                cores: 2,
                ..Setup::default()
            },
        ),
        (
            "chunks of 1",
            Setup {
                prefill_chunk: Some(1),
                ..Setup::default()
            },
        ),
        (
            "chunks of 7",
            Setup {
                prefill_chunk: Some(7),
                cores: 2,
                ..Setup::default()
            },
        ),
        (
            "chunks of 64",
            Setup {
                prefill_chunk: Some(64),
                ..Setup::default()
            },
        ),
        (
            "narrow",
            Setup {
                width: 3,
                ..Setup::default()
            },
        ),
    ];
    for (name, setup) in setups {
        let engine = engine(&demo(), setup);
        assert_eq!(together(&engine).await, wanted, "{name}");
        assert_eq!(
            together(&engine).await,
            wanted,
            "{name}, with the pages of the first round"
        );
        assert_eq!(engine.status().occupancy.pages_used, 0, "{name}");
    }
}

#[tokio::test]
async fn preemption_changes_nothing() {
    let wanted = alone().await;
    let engine = engine(
        &demo(),
        Setup {
            pages: 24,
            width: 16,
            ..Setup::default()
        },
    );
    assert_eq!(together(&engine).await, wanted);
    assert!(
        engine.status().preemptions > 0,
        "24 pages hold all sixteen: nothing was forced"
    );
}

#[tokio::test]
async fn several_completions_of_one_prompt_are_those_of_the_prompt_alone() {
    let engine = engine(&demo(), Setup::default());
    let prompt = prompts().remove(1);
    let hot = |choices: u32| {
        let sampling = Sampling {
            temperature: 2.0,
            seed: 5,
            ..Sampling::default()
        };
        GenerationRequest {
            choices,
            sampling,
            ..greedy(prompt.clone(), TOKENS)
        }
    };
    let request = hot(3);
    let together = run_all(&engine, request.clone()).await;
    assert_ne!(together[0].0.ids, together[1].0.ids, "choices differ by their number");
    assert_eq!(together[0].0, run(&engine, hot(1)).await.0);
    let again = run_all(&engine, request).await;
    for (first, second) in together.iter().zip(&again) {
        assert_eq!(first.0, second.0);
    }
}

#[tokio::test]
async fn a_dropped_stream_frees_its_pages() {
    let engine = engine(&demo(), Setup::default());
    let mut stream = engine.submit(vec![greedy(prompts().remove(0), 1500)]).await.unwrap();
    while !matches!(stream.next().await, Some(Event::Piece(_))) {}
    assert!(engine.status().occupancy.pages_used > 0);
    drop(stream);
    // Another request's whole life passes after the cancellation was taken.
    run(&engine, greedy(prompts().remove(1), 1)).await;
    assert_eq!(engine.status().occupancy.pages_used, 0);
}

#[tokio::test]
async fn a_time_limit_ends_a_completion_with_what_it_has() {
    let engine = engine(&demo(), Setup::default());
    let request = GenerationRequest {
        time_limit: Some(Duration::from_millis(30)),
        ..greedy(prompts().remove(0), 1900)
    };
    let (completion, reason, _) = run_all(&engine, request).await.remove(0);
    assert_eq!(reason, EndReason::Deadline);
    assert!(completion.ids.len() < 1900);
}

#[tokio::test]
async fn a_reader_who_does_not_read_is_ended_and_holds_nobody_up() {
    let engine = engine(
        &demo(),
        Setup {
            pages: 1024,
            ..Setup::default()
        },
    );
    let stop = GenerationRequest {
        choices: 3,
        ..greedy(prompts().remove(0), 1900)
    };
    let mut stream = engine.submit(vec![stop]).await.unwrap();
    let mut ended = 0;
    while engine.status().ended < 3 + ended {
        run(&engine, greedy(prompts().remove(1), 1)).await;
        ended += 1;
        assert!(ended < 100_000, "the unread request goes on for ever");
    }
    let mut reasons = Vec::new();
    while let Some(event) = stream.next().await {
        if let Event::Ended { reason, .. } = event {
            reasons.push(reason);
        }
    }
    assert_eq!(reasons.len(), 3);
    assert!(reasons.contains(&EndReason::SlowReader), "{reasons:?}");
}

#[tokio::test]
async fn what_cannot_fit_is_refused_with_the_figures() {
    let engine = engine(
        &demo(),
        Setup {
            pages: 4,
            ..Setup::default()
        },
    );
    let refused = engine.submit(vec![greedy(vec![1; 40], 40)]).await.err().unwrap();
    assert_eq!(refused, Refusal::TooLong { wanted: 80, limit: 64 });
}

#[tokio::test]
async fn an_equal_prompt_reuses_pages_unless_the_cache_scope_differs() {
    let engine = engine(&demo(), Setup::default());
    let prompt = prompts().into_iter().max_by_key(Vec::len).unwrap();
    assert_eq!(run(&engine, greedy(prompt.clone(), 4)).await.1.pages_reused, 0);
    assert!(run(&engine, greedy(prompt.clone(), 4)).await.1.pages_reused > 0);
    let apart = GenerationRequest {
        cache_scope: "another".into(),
        ..greedy(prompt, 4)
    };
    assert_eq!(run(&engine, apart).await.1.pages_reused, 0);
}
