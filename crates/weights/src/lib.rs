//! Open-weight checkpoints on disk, as they are published.
//!
//! | module | question it answers |
//! |---|---|
//! | [`gguf`] | what does a single file of weights, settings and tokenizer hold? |
//! | [`blocks`] | which values do blocks of quantized weights stand for? |
//! | [`groups`] | what are weights as small numbers that share scales? |
//! | [`compensated`] | how is a matrix rounded with an eye on its inputs? |
//! | [`scheme`] | how does a checkpoint store its matrices in fewer bits? |
//! | [`build`] | how does a converted model lie on disk, ready for the kernels? |
//! | [`precision`] | what are weights computed in, and keys and values kept in? |
//! | [`matrix`] | what is a matrix, and what are parts of it? |
//! | [`split`] | how is a model divided over several devices? |
//! | [`place`] | does a path lead to a model, and which files beside it are not used? |
//! | [`model_files`] | what is opened of a model, once for everything? |
//! | [`checkpoint`] | which tensors are there, and what are their bytes? |
//! | [`description`] | what model do they make up, and can it be run? |
//! | [`rope`] | at which frequencies do its positions turn? |
//! | [`generation`] | when does an answer end, and how is it sampled by default? |
//!
//! Nothing is guessed: what a config says and this crate does not know is refused by the field's name.
#![warn(missing_docs)]

pub mod blocks;
pub mod build;
pub mod checkpoint;
pub mod compensated;
mod cut;
mod declared;
pub mod description;
pub mod error;
pub mod float8;
pub mod generation;
pub mod gguf;
pub mod groups;
pub mod kind;
mod map;
pub mod matrix;
pub mod model_files;
pub mod place;
pub mod precision;
pub mod rope;
pub mod scheme;
pub mod split;
pub mod tensor;

pub use build::Build;
pub use checkpoint::Checkpoint;
pub use declared::{Declared, StoredAs};
pub use description::ModelDescription;
pub use error::WeightsError;
pub use float8::Float8Weights;
pub use generation::GenerationDefaults;
pub use gguf::Gguf;
pub use groups::GroupWeights;
pub use kind::Kind;
pub use map::FileBytes;
pub use matrix::Matrix;
pub use model_files::ModelFiles;
pub use precision::{Precision, Precisions};
pub use scheme::Scheme;
pub use split::{Shard, SplitError};
pub use tensor::Tensor;
