//! The arithmetic of a decoder-only transformer, vectorised and threaded.
//!
//! Every kernel has one body and is compiled for each [`Isa`]; the scalar compilation is the reference the others are
//! tested against. Three rules hold everywhere:
//!
//! * **An output element has one fixed order of additions.** It does not depend on how many rows share the call, on
//!   the number of cores, or on where a prompt was cut into chunks. So a sequence's result never depends on company.
//! * **Kernels do not allocate.** Workspace comes from the caller.
//! * **Shapes are checked once, at the entry of a kernel**, and a wrong one panics: it is a bug of the caller.
//!
//! | module | question it answers |
//! |---|---|
//! | [`isa`] | which instructions may I use here? |
//! | [`thread_pool`], `rows` | how is one operation spread over the cores a replica owns? |
//! | `tiling` | how are products cut into tiles? |
//! | [`matmul`] | how do activations meet packed weights? |
//! | [`groups`] | how, when the weights have 8 or 4 bits? |
//! | [`attention`] | how does a query read keys and values that lie in pages? |
//! | [`reserved`] | how is memory reserved that is not used yet? |
//! | `vector` | what does an instruction set supply? |
//! | [`norm`], [`rotary`], [`gate`], [`exponential`], [`cells`] | the pieces between |
#![warn(missing_docs)]

mod aligned;
pub mod attention;
pub mod cells;
pub mod exponential;
pub mod gate;
pub mod groups;
pub mod isa;
mod largest;
pub mod limits;
pub mod matmul;
pub mod norm;
pub mod reserved;
pub mod rotary;
mod rows;
mod sums;
pub mod thread_pool;
mod tiling;
mod vector;

pub use aligned::Aligned;
pub use groups::GroupMatrix;
pub use isa::Isa;
pub use matmul::PackedMatrix;
pub use sums::{Columns, Write};
pub use thread_pool::ThreadPool;

/// Number of `f32` lanes that every kernel works in, whatever the width of the machine's registers.
///
/// It is also the number of outputs in a weight panel and of tokens in a KV page.
pub const LANES: usize = 16;
