//! Frames of a stream, written one after the other into memory that goes to the connection as it is.

use super::call::CallTimes;
use super::piece::{Count, DONE, finish_reason, measured};
use super::shape::{EndExtras, Extras, Shape};
use crate::http::problem::Problem;
use actix_web::web::{BufMut, Bytes, BytesMut};
use serde::Serialize;
use vastrelay_engine::request::Piece;
use vastrelay_engine::{Event, RequestMetrics};
use vastrelay_wire::sampling::Measured;

/// Stands for the text in the piece from which frames with nothing but text are made: nothing else in a piece is like it.
const PLACE: &str = "\u{1}text\u{1}";

/// The frames of an answer that have not been taken yet.
pub(super) struct Frames<S> {
    shape: S,
    extras: Extras,
    count: Count,
    out: BytesMut,
    /// What stands before and after the text in frames with nothing but text, for each completion that has said something: the wire's
    /// own words, put together once.
    around: Vec<Option<(Bytes, Bytes)>>,
}

impl<S: Shape> Frames<S> {
    /// Returns the frames of an answer, of which those that come before everything else are written.
    pub fn opened(mut shape: S, extras: Extras, count: Count) -> Frames<S> {
        let mut out = BytesMut::new();
        for piece in shape.opening() {
            put(&mut out, &piece);
        }
        Frames {
            shape,
            extras,
            count,
            out,
            around: Vec::new(),
        }
    }

    /// Writes what an event tells.
    ///
    /// # Errors
    /// When the event ends the answer early.
    pub fn put(&mut self, event: Event, times: CallTimes) -> Result<(), Problem> {
        match event {
            Event::Admitted { .. } => {}
            Event::Prompt { choice, logprobs } => {
                for piece in self.shape.prompt(choice, logprobs) {
                    put(&mut self.out, &piece);
                }
            }
            Event::Piece(piece) => self.put_piece(piece),
            Event::Ended {
                choice,
                text,
                reason,
                metrics,
            } => {
                self.count.add(choice, &metrics);
                let extras = end_extras(self.extras, measured(reason, &metrics, times));
                let end = self.shape.end(choice, text.into(), finish_reason(reason)?, extras);
                put(&mut self.out, &end);
            }
            Event::Failed(reason) => return Err(Problem::ended(reason)),
        }
        Ok(())
    }

    fn put_piece(&mut self, piece: Piece) {
        if piece.text.is_empty() || !piece.logprobs.is_empty() || self.extras.token_ids {
            if let Some(piece) = self.shape.piece(piece, self.extras) {
                put(&mut self.out, &piece);
            }
            return;
        }
        let choice = piece.choice as usize;
        self.around.resize_with(self.around.len().max(choice + 1), || None);
        let around = &mut self.around[choice];
        let (before, after) = around.get_or_insert_with(|| around_text(&self.shape.plain(piece.choice, PLACE.into())));
        self.out.reserve(before.len() + piece.text.len() + after.len() + 2);
        self.out.extend_from_slice(before);
        put_text(&mut self.out, &piece.text);
        self.out.extend_from_slice(after);
    }

    /// Writes what broke.
    pub fn put_error(&mut self, problem: &Problem) {
        put(&mut self.out, &problem.envelope());
    }

    /// Writes what comes after everything else.
    pub fn close(&mut self) {
        if self.extras.usage_at_end {
            let usage = self.shape.usage(self.count.usage());
            put(&mut self.out, &usage);
        }
        self.out.extend_from_slice(&DONE);
    }

    pub fn is_empty(&self) -> bool {
        self.out.is_empty()
    }

    /// Returns what was written since this was asked last.
    pub fn take(&mut self) -> Bytes {
        self.out.split().freeze()
    }
}

/// Writes a frame.
fn put(out: &mut BytesMut, value: &impl Serialize) {
    out.extend_from_slice(b"data: ");
    put_json(out, value);
    out.extend_from_slice(b"\n\n");
}

fn put_json(out: &mut BytesMut, value: &(impl Serialize + ?Sized)) {
    serde_json::to_writer(out.writer(), value).expect("wire types are JSON");
}

/// Writes a text as JSON; most need but quotes.
fn put_text(out: &mut BytesMut, text: &str) {
    if text.bytes().any(|byte| byte < b' ' || matches!(byte, b'"' | b'\\')) {
        return put_json(out, text);
    }
    out.put_u8(b'"');
    out.extend_from_slice(text.as_bytes());
    out.put_u8(b'"');
}

/// Returns what stands before and after the text of a piece.
fn around_text(piece: &impl Serialize) -> (Bytes, Bytes) {
    let mut frame = BytesMut::new();
    put(&mut frame, piece);
    let mut place = BytesMut::new();
    put_json(&mut place, PLACE);
    let frame = frame.freeze();
    let found = frame.windows(place.len()).position(|part| part == place);
    let at = found.expect("a piece has its text");
    (frame.slice(..at), frame.slice(at + place.len()..))
}

fn end_extras(extras: Extras, measured: Measured) -> EndExtras {
    EndExtras {
        measured: extras.measured.then_some(measured),
        token_ids: extras.token_ids.then(Vec::new),
    }
}

impl Count {
    /// Adds a completion that has ended.
    pub(super) fn add(&mut self, choice: u32, metrics: &RequestMetrics) {
        self.output += metrics.output_tokens;
        // The completions of one prompt share its pages, so they are not added up.
        let prompt = (choice / self.choices_each.max(1)) as usize;
        self.reused.resize(self.reused.len().max(prompt + 1), 0);
        self.reused[prompt] = self.reused[prompt].max(metrics.reused_tokens);
    }
}
