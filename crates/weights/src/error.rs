//! What can be wrong with a checkpoint.

use std::path::PathBuf;

/// Why a checkpoint cannot be read or run; the text names the file and the field or tensor.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum WeightsError {
    /// A file is missing or cannot be read.
    #[error("cannot read {path}: {}", vastrelay_files::reason(source))]
    Read {
        /// The file.
        path: PathBuf,
        /// The system's error.
        source: std::io::Error,
    },
    /// No model stands at the path.
    #[error("{path}: {reason}")]
    NoModel {
        /// The path.
        path: PathBuf,
        /// The cause, and the accepted forms.
        reason: String,
    },
    /// A file cannot be written.
    #[error("cannot write {path}: {}", vastrelay_files::reason(source))]
    Write {
        /// The file.
        path: PathBuf,
        /// The system's error.
        source: std::io::Error,
    },
    /// The folder holds no weights that can be read.
    #[error("{folder} has no safetensors weights; expected model.safetensors or model.safetensors.index.json{hint}")]
    NoWeights {
        /// The folder.
        folder: PathBuf,
        /// What is there instead, and what to do about it; may be empty.
        hint: String,
    },
    /// A JSON file is malformed.
    #[error("{path} is not the expected JSON: line {}, column {}", source.line(), source.column())]
    Json {
        /// The file.
        path: PathBuf,
        /// Where and why.
        source: serde_json::Error,
    },
    /// A weights file is malformed.
    #[error("{path} is not a complete safetensors file: {reason}")]
    Format {
        /// The file.
        path: PathBuf,
        /// Why.
        reason: String,
    },
    /// A GGUF file is malformed.
    #[error("{path} cannot be read as GGUF, at byte {at}: {reason}")]
    Gguf {
        /// The file.
        path: PathBuf,
        /// How far it was read.
        at: usize,
        /// Why no further.
        reason: String,
    },
    /// A field has a value that is not supported.
    #[error("{file}: `{field}` is {found}; {wanted}")]
    Field {
        /// The file.
        file: PathBuf,
        /// The field.
        field: String,
        /// Its value.
        found: String,
        /// What would work.
        wanted: String,
    },
    /// The model cannot be divided as asked for.
    #[error(transparent)]
    Split(#[from] crate::split::SplitError),
    /// A tensor that the model needs is not there.
    #[error("tensor `{name}` is missing from {folder}")]
    Missing {
        /// The tensor.
        name: String,
        /// The checkpoint.
        folder: PathBuf,
    },
    /// A tensor is there that the description has no place for, so that leaving it out would change answers.
    #[error("tensor `{name}` in {folder} does not belong to {architecture}; the checkpoint has another architecture")]
    Unexpected {
        /// The tensor.
        name: String,
        /// The checkpoint.
        folder: PathBuf,
        /// The architecture that its config names.
        architecture: String,
    },
    /// A tensor has another shape than the config says.
    #[error("tensor `{name}` has shape {found:?}; config.json implies {wanted:?}")]
    Shape {
        /// The tensor.
        name: String,
        /// Its shape.
        found: Vec<usize>,
        /// The shape that the config implies.
        wanted: Vec<usize>,
    },
    /// A part of a quantized tensor is not what it has to be.
    #[error("tensor `{name}` is {found}; must be {wanted}")]
    Part {
        /// The part.
        name: String,
        /// What it is.
        found: String,
        /// What would work.
        wanted: &'static str,
    },
    /// A tensor is stored in a type that cannot be read.
    #[error(
        "tensor `{name}` is stored as {found}; F32, BF16 and F16 can be read, F8_E4M3 and I8 for matrices with scales"
    )]
    Type {
        /// The tensor.
        name: String,
        /// Its type.
        found: String,
    },
}
