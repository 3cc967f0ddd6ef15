//! A request that goes on from the tokens it had elsewhere says the rest with the same bits.

use crate::support::{Setup, demo, engine, greedy};
use std::path::Path;
use vastrelay_engine::request::Emitted;
use vastrelay_engine::token::TokenLogprobs;
use vastrelay_engine::{EndReason, Engine, Event, GenerationRequest, Sampling};
use vastrelay_text::{StopStrings, Tokenizer};

/// What one completion came to, token by token.
#[derive(Clone, Debug, Default)]
struct Told {
    /// Token, text that came with it, and log-probabilities as bits.
    tokens: Vec<(u32, String, Vec<u32>)>,
    last: String,
    reason: Option<EndReason>,
    logprobs: Option<Vec<TokenLogprobs>>,
}

impl Told {
    fn text(&self, from: usize) -> String {
        let tokens = self.tokens[from..].iter().map(|(_, text, _)| text.as_str());
        tokens.chain([self.last.as_str()]).collect()
    }
}

async fn run(engine: &Engine, request: GenerationRequest) -> Vec<Told> {
    let mut told = vec![Told::default(); request.choices as usize];
    let mut stream = engine.submit(vec![request]).await.unwrap();
    while let Some(event) = stream.next().await {
        match event {
            Event::Admitted { .. } => {}
            Event::Prompt { choice, logprobs } => told[choice as usize].logprobs = Some(logprobs),
            Event::Piece(piece) => {
                assert_eq!(piece.ids.len(), 1);
                let bits = piece.logprobs.iter().flat_map(|(token, top)| {
                    let all = std::iter::once(token).chain(top);
                    all.map(|token| token.logprob.to_bits())
                });
                let token = (piece.ids[0], piece.text.to_string(), bits.collect());
                told[piece.choice as usize].tokens.push(token);
            }
            Event::Ended {
                choice, text, reason, ..
            } => {
                told[choice as usize].last = text.to_string();
                told[choice as usize].reason = Some(reason);
            }
            Event::Failed(reason) => panic!("{reason}"),
        }
    }
    told
}

/// The request as it goes on after each of its completions has come to so many tokens.
fn resumed(request: &GenerationRequest, told: &[Told], after: usize) -> GenerationRequest {
    let emitted = told.iter().map(|told| Emitted {
        ids: told.tokens.iter().take(after).map(|(id, ..)| *id).collect(),
        ended: told.tokens.len() <= after,
    });
    GenerationRequest {
        emitted: emitted.collect(),
        prompt_told: after > 0,
        ..request.clone()
    }
}

/// Requests of every kind, with a name each.
fn table(tokenizer: &Tokenizer) -> Vec<(&'static str, GenerationRequest)> {
    let prompt = |text: &str| tokenizer.encode(text, true).unwrap();
    let base = greedy(prompt("The ferry leaves the pier at"), 24);
    let seeded = Sampling {
        temperature: 1.0,
        top_p: 0.95,
        seed: 11,
        ..Sampling::default()
    };
    let with = |sampling: &Sampling| GenerationRequest {
        sampling: sampling.clone(),
        ..base.clone()
    };
    let said = |stop: &[&str]| GenerationRequest {
        stop: StopStrings::new(stop),
        ..base.clone()
    };
    // Tokens of single bytes, so that characters span several.
    let wild = Sampling {
        temperature: 2.0,
        seed: 5,
        logit_bias: (0..256).map(|id| (id, 4.0)).collect(),
        ..Sampling::default()
    };
    vec![
        ("greedy", base.clone()),
        ("seeded", with(&seeded)),
        (
            "three completions",
            GenerationRequest {
                choices: 3,
                ..with(&seeded)
            },
        ),
        ("a stop string", said(&["e the", "zzz"])),
        ("a stop string of one letter", said(&["k"])),
        (
            "a stop string that only begins",
            said(&["\u{e9}never", "the \u{0}", "a\u{0}"]),
        ),
        (
            "logprobs of the prompt",
            GenerationRequest {
                logprobs_of_prompt: Some(2),
                ..base.clone()
            },
        ),
        (
            "logprobs and three completions",
            GenerationRequest {
                logprobs_of_prompt: Some(1),
                choices: 3,
                ..with(&seeded)
            },
        ),
        (
            "penalties",
            with(&Sampling {
                repetition_penalty: 1.3,
                presence_penalty: 0.5,
                frequency_penalty: 0.4,
                ..seeded.clone()
            }),
        ),
        ("characters over several tokens", with(&wild)),
        (
            "an end token that has to wait",
            GenerationRequest {
                end_ids: (0..2_000).step_by(3).collect(),
                least_tokens: 9,
                ..with(&seeded)
            },
        ),
        (
            "an answer apart",
            GenerationRequest {
                answers_apart: true,
                ..base.clone()
            },
        ),
    ]
}

#[tokio::test]
async fn every_kind_of_request_goes_on_after_every_token_with_the_same_bits() {
    let folder: &Path = &demo();
    let tokenizer = Tokenizer::open(folder).unwrap();
    let first = engine(folder, Setup::default());
    // Another engine, with another width and smaller steps: what was computed in one row is now a prompt.
    let other = engine(
        folder,
        Setup {
            width: 4,
            prefill_chunk: Some(7),
            ..Setup::default()
        },
    );
    for (name, request) in table(&tokenizer) {
        let whole = run(&first, request.clone()).await;
        let longest = whole.iter().map(|told| told.tokens.len()).max().unwrap();
        assert!(longest > 3, "{name}: nothing to go on from: {whole:?}");
        for after in 0..longest {
            let rest = run(&other, resumed(&request, &whole, after)).await;
            for (choice, (whole, rest)) in whole.iter().zip(&rest).enumerate() {
                let context = format!("{name}, completion {choice}, after {after} tokens");
                if whole.tokens.len() <= after {
                    assert!(
                        rest.tokens.is_empty() && rest.reason.is_none(),
                        "{context}: it had ended"
                    );
                    continue;
                }
                let bits = |(id, _, bits): &(u32, String, Vec<u32>)| (*id, bits.clone());
                let wanted: Vec<_> = whole.tokens[after..].iter().map(bits).collect();
                assert_eq!(rest.tokens.iter().map(bits).collect::<Vec<_>>(), wanted, "{context}");
                assert_eq!(rest.text(0), whole.text(after), "{context}");
                assert_eq!(rest.reason, whole.reason, "{context}");
                assert_eq!(
                    rest.logprobs,
                    whole.logprobs.clone().filter(|_| after == 0),
                    "{context}"
                );
            }
        }
    }
}
