//! A model's tokenizer.

use crate::error::{TextError, not_json};
use crate::growth::growth_of;
use crate::pieces::TokenPieces;
use std::path::Path;
use std::sync::Arc;

/// Stands inside a control token's name that somebody wrote into a message. A noncharacter, so no text needs it.
const DEFUSED: char = '\u{fdd0}';
/// Most bytes of `tokenizer.json`.
const MOST_BYTES: u64 = 128 << 20;
/// Most bytes that a normalizer may make of one byte.
const MOST_GROWTH: usize = 256;
/// Most bytes that a text may have after normalization.
const MOST_NORMALIZED: usize = 256 << 20;

/// Turns text into token ids; the way back is [`TokenPieces`].
pub struct Tokenizer {
    inner: tokenizers::Tokenizer,
    pieces: Arc<TokenPieces>,
    control_tokens: Vec<String>,
    /// Tokens that are put before plain text.
    start: Vec<u32>,
    /// Most bytes that normalization makes of one byte.
    growth: usize,
}

impl Tokenizer {
    /// Reads `tokenizer.json` of a folder.
    ///
    /// # Errors
    /// When it is missing or malformed, or its decoder is of an unknown kind.
    pub fn open(folder: &Path) -> Result<Tokenizer, TextError> {
        let path = folder.join("tokenizer.json");
        let text = vastrelay_files::read(&path, MOST_BYTES).map_err(|source| TextError::Read {
            path: path.clone(),
            source,
        })?;
        Tokenizer::parse(&path, &text)
    }

    /// Reads a tokenizer in the words of `tokenizer.json`; the path is for errors.
    ///
    /// # Errors
    /// When it is malformed, or its decoder is of an unknown kind.
    pub fn parse(path: &Path, text: &[u8]) -> Result<Tokenizer, TextError> {
        let format = |reason: String| TextError::Format {
            path: path.to_owned(),
            reason,
        };
        // First as JSON: the package takes it for granted in places that the file is.
        let file: serde_json::Value = serde_json::from_slice(text).map_err(|e| format(not_json(&e)))?;
        let growth = growth_of(&file["normalizer"]);
        if growth > MOST_GROWTH {
            return Err(format(format!(
                "its `normalizer` can make {growth} bytes of one; up to {MOST_GROWTH} are accepted"
            )));
        }
        let read = std::panic::catch_unwind(|| tokenizers::Tokenizer::from_bytes(text));
        let mut inner = read
            .map_err(|_| format("a part of it contradicts another".into()))?
            .map_err(|e| format(e.to_string()))?;
        // Prompts are neither cut nor filled up: what is too long is refused, and a batch needs no equal lengths.
        inner.with_padding(None);
        inner.with_truncation(None).map_err(|e| format(e.to_string()))?;
        let pieces = Arc::new(TokenPieces::new(&inner, &file).map_err(format)?);
        let added = inner.get_added_tokens_decoder().into_values();
        let control_tokens = added
            .filter(|token| token.special && !token.content.is_empty())
            .map(|token| token.content);
        let mut tokenizer = Tokenizer {
            control_tokens: control_tokens.collect(),
            inner,
            pieces,
            start: Vec::new(),
            growth,
        };
        tokenizer.start = tokenizer.start_tokens().unwrap_or_default();
        Ok(tokenizer)
    }

    /// Finds the tokens that are put before plain text.
    fn start_tokens(&self) -> Result<Vec<u32>, TextError> {
        let (plain, whole) = (self.ids("a", false)?, self.ids("a", true)?);
        let begins = whole.windows(plain.len().max(1)).position(|ids| ids == plain);
        Ok(whole[..begins.unwrap_or(0)].to_vec())
    }

    /// Returns the tokens that are put before plain text, such as a start token.
    pub fn start(&self) -> &[u32] {
        &self.start
    }

    /// Returns the most bytes of text that can make up a number of tokens.
    pub fn most_bytes(&self, tokens: usize) -> usize {
        // A normalizer may drop characters, such as spaces in a row.
        let dropped = if self.growth > 1 { 4 } else { 1 };
        tokens.saturating_mul(self.pieces.longest()).saturating_mul(dropped)
    }

    /// Marks the names of control tokens in a message, so that [`Tokenizer::encode_defused`] takes them for plain text:
    /// only a template may end a turn or begin one.
    pub fn defuse(&self, message: &str) -> String {
        let mut text = message.replace(DEFUSED, "");
        for token in &self.control_tokens {
            if text.contains(token.as_str()) {
                let first = token.chars().next().map_or(0, char::len_utf8);
                text = text.replace(
                    token.as_str(),
                    &format!("{}{DEFUSED}{}", &token[..first], &token[first..]),
                );
            }
        }
        text
    }

    /// Returns a text without the marks of [`Tokenizer::defuse`].
    pub fn without_marks(text: &str) -> String {
        text.replace(DEFUSED, "")
    }

    /// Returns the ids of a template's text whose messages were defused.
    ///
    /// # Errors
    /// When the tokenizer's own rules fail on the text.
    pub fn encode_defused(&self, text: &str) -> Result<Vec<u32>, TextError> {
        let parts: Vec<Vec<u32>> = text
            .split(DEFUSED)
            .map(|part| self.encode(part, false))
            .collect::<Result<_, _>>()?;
        Ok(parts.concat())
    }

    /// Returns the ids of a text; `start` adds the tokens that the model wants around plain text, such as a start token,
    /// unless the text begins with them already.
    ///
    /// # Errors
    /// When the text is too long for the tokenizer's normalizer, or the tokenizer's own rules fail on it.
    pub fn encode(&self, text: &str, start: bool) -> Result<Vec<u32>, TextError> {
        let most = MOST_NORMALIZED / self.growth;
        if text.len() > most {
            let bytes = text.len();
            return Err(TextError::Encode(format!("it has {bytes} bytes; up to {most} work")));
        }
        let mut ids = self.ids(text, start)?;
        let twice = start && !self.start.is_empty() && ids[self.start.len().min(ids.len())..].starts_with(&self.start);
        if twice {
            ids.drain(..self.start.len());
        }
        Ok(ids)
    }

    fn ids(&self, text: &str, start: bool) -> Result<Vec<u32>, TextError> {
        let encoding = self
            .inner
            .encode_fast(text, start)
            .map_err(|e| TextError::Encode(e.to_string()))?;
        Ok(encoding.get_ids().to_vec())
    }

    /// Returns the id of a token by its name, such as a control token.
    pub fn id(&self, token: &str) -> Option<u32> {
        self.inner.token_to_id(token)
    }

    /// Returns what each token stands for.
    pub fn pieces(&self) -> &Arc<TokenPieces> {
        &self.pieces
    }
}
