//! What can be wrong between text and tokens.

use std::path::PathBuf;

/// Why text cannot be turned into tokens or back.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum TextError {
    /// A file is missing or cannot be read.
    #[error("cannot read {path}: {source}")]
    Read {
        /// The file.
        path: PathBuf,
        /// What the system said.
        source: std::io::Error,
    },
    /// A file is malformed.
    #[error("{path}: {reason}")]
    Format {
        /// The file.
        path: PathBuf,
        /// Why.
        reason: String,
    },
    /// The tokenizer failed on a text.
    #[error("the text cannot be encoded: {0}")]
    Encode(String),
    /// The chat template has an error, refused the conversation or did not come to an end.
    #[error("the model's chat template cannot render this conversation: {0}")]
    Template(String),
}

/// Says where a file is not the expected JSON, without repeating what it says there.
pub(crate) fn not_json(error: &serde_json::Error) -> String {
    format!(
        "it is not the expected JSON: line {}, column {}",
        error.line(),
        error.column()
    )
}
