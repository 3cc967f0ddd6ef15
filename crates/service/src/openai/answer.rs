//! An answer in the making: what chat and plain completions have in common, whole or in pieces.

use super::call::Call;
use super::events::{Events, Next};
use super::piece::{COMMENT, Count, DONE, error_frame, finish_reason, frame, measured};
use crate::problem::Problem;
use actix_web::web::Bytes;
use futures_util::stream::Stream;
use serde::Serialize;
use vastrelay_engine::request::Piece;
use vastrelay_engine::token::Scored;
use vastrelay_engine::{Event, Figures};
use vastrelay_wire::sampling::{Measured, Usage};

/// What an answer carries besides its text.
#[derive(Clone, Copy)]
pub(super) struct Extras {
    /// Token ids on every choice.
    pub token_ids: bool,
    /// Figures on every choice.
    pub measured: bool,
    /// Token counts at the end of a stream.
    pub usage_at_end: bool,
}

/// How one kind of answer is put into words.
pub(super) trait Shape {
    /// A piece on the wire.
    type Piece: Serialize;
    /// A whole answer on the wire.
    type Whole: Serialize;

    /// Returns the whole answer.
    fn whole(self, collected: Vec<Collected>, usage: Usage, extras: Extras) -> Self::Whole;

    /// Returns the pieces that come before all others.
    fn opening(&mut self) -> Vec<Self::Piece>;
    /// Returns the pieces that say how probable the tokens of a prompt were; its first completion has read it.
    fn prompt(&mut self, _first_choice: u32, _logprobs: Vec<Scored>) -> Vec<Self::Piece> {
        Vec::new()
    }
    /// Returns what is new of a completion, or `None` when there is nothing to see yet.
    fn piece(&mut self, new: Piece, extras: Extras) -> Option<Self::Piece>;
    /// Returns a completion's last piece.
    fn end(&mut self, choice: u32, text: String, finish_reason: String, extras: EndExtras) -> Self::Piece;
    /// Returns the piece with the token counts.
    fn usage(&mut self, usage: Usage) -> Self::Piece;
}

/// What a completion's last piece carries besides its text.
pub(super) struct EndExtras {
    /// Its figures, when asked for.
    pub measured: Option<Measured>,
    /// An empty list, when ids were asked for: the ids came with the pieces before.
    pub token_ids: Option<Vec<u32>>,
}

/// One completion, whole.
#[derive(Default)]
pub(super) struct Collected {
    pub text: String,
    pub ids: Vec<u32>,
    pub logprobs: Vec<Scored>,
    /// Of the prompt, where it read that and they were asked for.
    pub prompt_scores: Vec<Scored>,
    pub finish_reason: String,
    pub measured: Option<Measured>,
}

impl Collected {
    /// Returns about how many bytes of JSON it comes to.
    pub fn bytes(&self) -> usize {
        let scored = |scored: &[Scored]| scored.iter().map(|(_, top)| 100 * (1 + top.len())).sum::<usize>();
        self.text.len() + 8 * self.ids.len() + scored(&self.logprobs) + scored(&self.prompt_scores)
    }

    /// Returns the mean log-probability of its tokens.
    pub fn mean_logprob(&self) -> f32 {
        let sum: f32 = self.logprobs.iter().map(|(token, _)| token.logprob).sum();
        sum / self.logprobs.len().max(1) as f32
    }
}

/// Collects all completions of a call.
///
/// # Errors
/// When the engine fails or a completion breaks off, or the caller has gone.
pub(super) async fn collect(
    mut call: Call,
    mut events: Events,
    choices: u32,
    mut count: Count,
) -> Result<(Vec<Collected>, Usage), Problem> {
    let mut collected: Vec<Collected> = (0..choices).map(|_| Collected::default()).collect();
    loop {
        let event = match events.next().await {
            Next::Event(event) => event,
            Next::Silence => continue,
            Next::End => break,
            Next::Gone => return Err(Problem::half_closed()),
            Next::BrokenOff => {
                let problem = Problem::broke_off();
                call.note_failure(&problem);
                return Err(problem);
            }
        };
        call.note(&event);
        match *event {
            Event::Admitted { .. } => {}
            Event::Prompt { choice, logprobs } => collected[choice as usize].prompt_scores = logprobs,
            Event::Piece(piece) => {
                let one = &mut collected[piece.choice as usize];
                one.text.push_str(&piece.text);
                one.ids.extend(piece.ids);
                one.logprobs.extend(piece.logprobs);
            }
            Event::Ended {
                choice,
                text,
                reason,
                figures,
            } => {
                count.add(choice, &figures);
                let one = &mut collected[choice as usize];
                one.text.push_str(&text);
                one.finish_reason = finish_reason(reason).inspect_err(|problem| call.note_failure(problem))?;
                one.measured = Some(measured(reason, &figures));
            }
            Event::Failed(reason) => return Err(Problem::internal(reason)),
        }
    }
    Ok((collected, count.usage()))
}

/// Sends an answer as it comes.
pub(super) fn pieces(
    mut shape: impl Shape + 'static,
    extras: Extras,
    mut call: Call,
    mut events: Events,
    mut count: Count,
) -> impl Stream<Item = Result<Bytes, Problem>> {
    async_stream::stream! {
        for piece in shape.opening() {
            yield Ok(frame(&piece));
        }
        loop {
            let event = match events.next().await {
                Next::Event(event) => event,
                Next::Silence => {
                    yield Ok(COMMENT);
                    continue;
                }
                Next::End => break,
                Next::Gone => {
                    yield Ok(error_frame(&Problem::half_closed()));
                    return;
                }
                Next::BrokenOff => {
                    let problem = Problem::broke_off();
                    call.note_failure(&problem);
                    yield Ok(error_frame(&problem));
                    return;
                }
            };
            call.note(&event);
            let problem = match *event {
                Event::Admitted { .. } => continue,
                Event::Prompt { choice, logprobs } => {
                    for piece in shape.prompt(choice, logprobs) {
                        yield Ok(frame(&piece));
                    }
                    continue;
                }
                Event::Piece(piece) => {
                    if let Some(piece) = shape.piece(piece, extras) {
                        yield Ok(frame(&piece));
                    }
                    continue;
                }
                Event::Ended { choice, text, reason, figures } => {
                    count.add(choice, &figures);
                    match finish_reason(reason) {
                        Ok(finish) => {
                            let extra = end_extras(extras, measured(reason, &figures));
                            yield Ok(frame(&shape.end(choice, text.into(), finish, extra)));
                            continue;
                        }
                        Err(problem) => problem,
                    }
                }
                Event::Failed(reason) => Problem::internal(reason),
            };
            call.note_failure(&problem);
            yield Ok(error_frame(&problem));
            return;
        }
        if extras.usage_at_end {
            yield Ok(frame(&shape.usage(count.usage())));
        }
        yield Ok(DONE);
    }
}

fn end_extras(extras: Extras, measured: Measured) -> EndExtras {
    EndExtras {
        measured: extras.measured.then_some(measured),
        token_ids: extras.token_ids.then(Vec::new),
    }
}

impl Count {
    /// Adds a completion that has ended.
    fn add(&mut self, choice: u32, figures: &Figures) {
        self.output += figures.output_tokens;
        // The completions of one prompt share its pages, so they are not added up.
        let prompt = (choice / self.choices_each.max(1)) as usize;
        self.reused.resize(self.reused.len().max(prompt + 1), 0);
        self.reused[prompt] = self.reused[prompt].max(figures.reused_tokens);
    }
}
