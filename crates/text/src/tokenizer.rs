//! A model's tokenizer.

use crate::error::TextError;
use crate::pieces::TokenPieces;
use std::path::Path;
use std::sync::Arc;

/// Stands inside a control token's name that somebody wrote into a message. A noncharacter, so no text needs it.
const DEFUSED: char = '\u{fdd0}';

/// Turns text into token ids; the way back is [`TokenPieces`].
pub struct Tokenizer {
    inner: tokenizers::Tokenizer,
    pieces: Arc<TokenPieces>,
    control_tokens: Vec<String>,
}

impl Tokenizer {
    /// Reads `tokenizer.json` of a folder.
    ///
    /// # Errors
    /// When it is missing or malformed, or its decoder is of an unknown kind.
    pub fn open(folder: &Path) -> Result<Tokenizer, TextError> {
        let path = folder.join("tokenizer.json");
        let text = std::fs::read(&path).map_err(|source| TextError::Read {
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
        let file: serde_json::Value = serde_json::from_slice(text).map_err(|e| format(e.to_string()))?;
        let read = std::panic::catch_unwind(|| tokenizers::Tokenizer::from_bytes(text));
        let inner = read
            .map_err(|_| format("a part of it contradicts another".into()))?
            .map_err(|e| format(e.to_string()))?;
        let pieces = Arc::new(TokenPieces::new(&inner, &file).map_err(format)?);
        let added = inner.get_added_tokens_decoder().into_values();
        let control_tokens = added
            .filter(|token| token.special && !token.content.is_empty())
            .map(|token| token.content);
        Ok(Tokenizer {
            control_tokens: control_tokens.collect(),
            inner,
            pieces,
        })
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

    /// Returns the ids of a text; `start` adds the tokens that the model wants around plain text, such as a start token.
    ///
    /// # Errors
    /// When the tokenizer's own rules fail on the text.
    pub fn encode(&self, text: &str, start: bool) -> Result<Vec<u32>, TextError> {
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
