//! An answer in the making: what chat and plain completions have in common, whole or in pieces.

use super::call::Call;
use super::events::{Events, Next};
use super::frames::Frames;
use super::piece::{COMMENT, Count, finish_reason, measured};
use super::shape::{Collected, Extras, Shape};
use crate::http::problem::Problem;
use actix_web::web::Bytes;
use futures_util::stream::Stream;
use std::convert::Infallible;
use std::pin::Pin;
use std::task::{Context, Poll, ready};
use std::time::Instant;
use vastrelay_engine::Event;
use vastrelay_wire::sampling::Usage;

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
        match events.next().await {
            Next::Events => {}
            Next::Silence => continue,
            Next::End => break,
            Next::Gone => return Err(Problem::half_closed()),
            Next::BrokenOff => {
                let problem = Problem::broke_off();
                call.note_failure(&problem);
                return Err(problem);
            }
        }
        let now = Instant::now();
        call.runs_on(events.measured());
        for event in events.come() {
            call.note(&event, now);
            match event {
                Event::Admitted { .. } => {}
                Event::Prompt { choice, logprobs } => collected[choice as usize].logprobs_of_prompt = logprobs,
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
                    metrics,
                } => {
                    count.add(choice, &metrics);
                    let one = &mut collected[choice as usize];
                    one.text.push_str(&text);
                    one.finish_reason = finish_reason(reason).inspect_err(|problem| call.note_failure(problem))?;
                    one.measured = Some(measured(reason, &metrics, call.times()));
                }
                Event::Failed(reason) => return Err(Problem::ended(reason)),
            }
        }
        call.count_gaps(now);
    }
    Ok((collected, count.usage()))
}

/// Sends an answer as it comes: what has come by the time that the connection takes more goes out together.
pub(super) struct Pieces<S> {
    frames: Frames<S>,
    call: Call,
    events: Events,
    /// Nothing comes but what is written already.
    is_over: bool,
}

impl<S: Shape> Pieces<S> {
    /// Returns an answer of which nothing has been sent.
    pub fn new(shape: S, extras: Extras, call: Call, events: Events, count: Count) -> Pieces<S> {
        Pieces {
            frames: Frames::opened(shape, extras, count),
            call,
            events,
            is_over: false,
        }
    }

    /// Writes what has come.
    fn write(&mut self) {
        let (now, mut broken) = (Instant::now(), None);
        self.call.runs_on(self.events.measured());
        for event in self.events.come() {
            self.call.note(&event, now);
            if let Err(problem) = self.frames.put(event, self.call.times()) {
                broken = Some(problem);
                break;
            }
        }
        self.call.count_gaps(now);
        if let Some(problem) = broken {
            self.break_off(&problem);
        }
    }

    fn break_off(&mut self, problem: &Problem) {
        self.call.note_failure(problem);
        self.end_with(problem);
    }

    fn end_with(&mut self, problem: &Problem) {
        self.frames.put_error(problem);
        self.is_over = true;
    }
}

impl<S: Shape + Unpin> Stream for Pieces<S> {
    type Item = Result<Bytes, Infallible>;

    fn poll_next(self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<Option<Self::Item>> {
        let this = self.get_mut();
        loop {
            if !this.frames.is_empty() {
                return Poll::Ready(Some(Ok(this.frames.take())));
            }
            if this.is_over {
                return Poll::Ready(None);
            }
            match ready!(this.events.poll_next(context)) {
                Next::Events => this.write(),
                Next::Silence => return Poll::Ready(Some(Ok(COMMENT))),
                Next::End => {
                    this.frames.close();
                    this.is_over = true;
                }
                Next::Gone => this.end_with(&Problem::half_closed()),
                Next::BrokenOff => this.break_off(&Problem::broke_off()),
            }
        }
    }
}
