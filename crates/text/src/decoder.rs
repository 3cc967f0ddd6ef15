//! Text out of tokens, as they come.

use crate::pieces::TokenPieces;
use compact_str::CompactString;
use std::sync::Arc;

/// Turns tokens into text one by one and never gives out half a character.
pub struct IncrementalDecoder {
    pieces: Arc<TokenPieces>,
    /// Bytes of a character that is not whole yet.
    pending: Vec<u8>,
    at_start: bool,
}

impl IncrementalDecoder {
    /// Returns a decoder; `at_start` when the tokens begin a text of their own rather than continue one.
    pub fn new(pieces: Arc<TokenPieces>, at_start: bool) -> IncrementalDecoder {
        let at_start = at_start && pieces.strips_first_space();
        IncrementalDecoder {
            pieces,
            pending: Vec::new(),
            at_start,
        }
    }

    /// Adds a token and returns the text that is whole now, without control tokens.
    ///
    /// Bytes that cannot become a character any more come out as U+FFFD.
    pub fn push(&mut self, id: u32) -> CompactString {
        let mut text = CompactString::default();
        if self.pieces.is_special(id) {
            return text;
        }
        let mut bytes = self.pieces.bytes(id);
        if self.at_start && !bytes.is_empty() {
            bytes = bytes.strip_prefix(b" ").unwrap_or(bytes);
            self.at_start = false;
        }
        self.pending.extend_from_slice(bytes);
        loop {
            match std::str::from_utf8(&self.pending) {
                Ok(whole) => {
                    text.push_str(whole);
                    self.pending.clear();
                    return text;
                }
                Err(error) => {
                    let whole = error.valid_up_to();
                    text.push_str(&String::from_utf8_lossy(&self.pending[..whole]));
                    match error.error_len() {
                        Some(bad) => {
                            text.push(char::REPLACEMENT_CHARACTER);
                            self.pending.drain(..whole + bad);
                        }
                        None => {
                            self.pending.drain(..whole);
                            return text;
                        }
                    }
                }
            }
        }
    }

    /// Returns what is left when no more tokens come: a U+FFFD for a character cut in half, or nothing.
    pub fn finish(&mut self) -> String {
        let rest = String::from_utf8_lossy(&self.pending).into_owned();
        self.pending.clear();
        rest
    }
}
