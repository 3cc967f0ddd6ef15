//! A model's tokenizer.

use crate::error::TextError;
use crate::pieces::TokenPieces;
use std::path::Path;
use std::sync::Arc;

/// Turns text into token ids; the way back is [`TokenPieces`].
pub struct Tokenizer {
    inner: tokenizers::Tokenizer,
    pieces: Arc<TokenPieces>,
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
        let format = |reason: String| TextError::Format {
            path: path.clone(),
            reason,
        };
        let inner = tokenizers::Tokenizer::from_bytes(&text).map_err(|e| format(e.to_string()))?;
        let file: serde_json::Value = serde_json::from_slice(&text).map_err(|e| format(e.to_string()))?;
        let pieces = Arc::new(TokenPieces::new(&inner, &file).map_err(format)?);
        Ok(Tokenizer { inner, pieces })
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
