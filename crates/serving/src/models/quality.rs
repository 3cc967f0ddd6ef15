//! The cost of a precision: how well a model foretells a text in it.

use crate::error::LoadError;
use crate::models::origin::Origin;
use std::path::Path;
use vastrelay_engine::cpu::CpuSettings;
use vastrelay_engine::likelihood::likelihoods;
use vastrelay_engine::token::TokenLogprobs;
use vastrelay_engine::{Executor, PAGE_TOKENS};
use vastrelay_kernels::Isa;
use vastrelay_kernels::attention::KvPrecision;
use vastrelay_text::Tokenizer;
use vastrelay_weights::{ModelDescription, ModelFiles, Precision};

/// Tokens that are read knowing of one another.
const WINDOW: usize = 256;

/// How a model did in one precision.
pub struct Quality {
    /// Its weights, in bytes.
    pub weight_bytes: usize,
    /// One KV page, in bytes.
    pub page_bytes: usize,
    /// How likely each token of the text was.
    pub logprobs: Vec<TokenLogprobs>,
}

/// Returns the tokens of a text, cut after about so many characters at the end of a line.
///
/// # Errors
/// When the folder has no tokenizer that can be read, or the text cannot be encoded.
pub fn tokens(folder: &Path, text: &str, most: usize) -> Result<Vec<u32>, LoadError> {
    let (tokenizer, _): (Tokenizer, _) = crate::models::model::texts(&ModelFiles::open(folder)?)?;
    let end = text.char_indices().nth(most).map_or(text.len(), |(at, _)| at);
    let end = text[..end].rfind('\n').filter(|_| end < text.len()).unwrap_or(end);
    Ok(tokenizer.encode(&text[..end], true)?)
}

/// Loads a model in a precision and reads texts with it; `on_piece` hears of each piece's tokens.
///
/// # Errors
/// When it cannot be loaded or the device fails.
pub fn measure(
    folder: &Path,
    texts: &[Vec<u32>],
    weights: Precision,
    kv: KvPrecision,
    cores: usize,
    on_piece: impl FnMut(usize),
) -> Result<Quality, LoadError> {
    let files = ModelFiles::open(folder)?;
    let description = ModelDescription::read(&files)?;
    let origin = Origin::open(&files, &description, None)?;
    let window = WINDOW.min(description.context);
    let settings = CpuSettings {
        isa: Isa::detect(),
        cores,
        spinning: Default::default(),
        split: 1,
        context: window,
        step_tokens: window,
        width: 1,
        pages: vec![window.div_ceil(PAGE_TOKENS); description.reaches().len()],
        weights,
        kv,
    };
    let mut executor = origin.load(&description, settings)?;
    let memory = executor.memory();
    let logprobs = likelihoods(&mut executor, texts, window, 1, on_piece)
        .map_err(|error| LoadError::Refused(error.to_string()))?;
    Ok(Quality {
        weight_bytes: memory.weights,
        page_bytes: memory.page,
        logprobs,
    })
}
