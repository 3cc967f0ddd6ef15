//! The work of a cell, its aims, and the time that the machine needs for it.

use crate::alternate::Limits;
use crate::model::{CACHED, Model};

/// The part of the cells to measure. Cells with aims come first, for every model; the others use the remaining time.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Part {
    /// Cells with an aim.
    Aims,
    /// Other batches, contexts and prompts.
    More,
}

/// The work of a cell.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Work {
    /// Reads a prompt of so many tokens.
    Prefill(usize),
    /// Decodes a token for each of so many sequences, with so many tokens cached.
    Decode(usize, usize),
    /// Decodes a token for each of so many sequences, with [`CACHED`] tokens cached, and reads a prompt of so many in the same step.
    Mixed(usize, usize),
}

impl Work {
    /// Returns its name.
    pub fn name(self) -> String {
        match self {
            Work::Prefill(tokens) => format!("prefill {tokens}"),
            Work::Decode(sequences, cached) => format!("decode {sequences} at {cached}"),
            Work::Mixed(sequences, tokens) => format!("mixed {sequences} and {tokens}"),
        }
    }

    /// Returns the work of a part.
    pub fn all(part: Part) -> Vec<Work> {
        match part {
            Part::Aims => vec![
                Work::Decode(1, CACHED),
                Work::Decode(8, CACHED),
                Work::Decode(32, CACHED),
                Work::Prefill(512),
            ],
            Part::More => vec![
                Work::Decode(1, 16),
                Work::Decode(1, 128),
                Work::Decode(2, CACHED),
                Work::Decode(4, CACHED),
                Work::Decode(16, CACHED),
                Work::Decode(32, 16),
                Work::Decode(32, 128),
                Work::Decode(64, CACHED),
                Work::Prefill(128),
                Work::Prefill(1_024),
                Work::Prefill(2_048),
                Work::Mixed(16, 256),
            ],
        }
    }

    /// The aim against bf16.
    pub fn against_bf16(self, precision: &str) -> Option<f64> {
        let aims = match precision {
            "int8" => [1.35, 1.6, 1.6, 1.5],
            "int4" => [1.8, 1.6, 1.4, 1.3],
            "GGUF" => [0.97, 0.97, 0.97, 1.3],
            _ => return None,
        };
        self.number().map(|number| aims[number])
    }

    /// The aim against what the machine allows.
    pub fn against_limit(self, precision: &str) -> Option<f64> {
        let aims = match precision {
            "bf16" => [Some(0.8), None, None, None],
            "int8" | "int4" => [Some(0.8), Some(0.5), Some(0.5), None],
            _ => return None,
        };
        self.number().and_then(|number| aims[number])
    }

    /// The aim against the same model in JAX.
    pub fn against_jax(self, precision: &str) -> Option<f64> {
        let aims = match precision {
            "f32" => [1.4, 2.0, 2.0, 1.5],
            "bf16" => [2.5, 2.5, 2.5, 1.5],
            "int8" | "int4" => [3.5, 4.0, 4.0, 3.0],
            _ => return None,
        };
        self.number().map(|number| aims[number])
    }

    /// The cells that have aims.
    pub fn number(self) -> Option<usize> {
        let aimed = [
            Work::Decode(1, CACHED),
            Work::Decode(8, CACHED),
            Work::Decode(32, CACHED),
            Work::Prefill(512),
        ];
        aimed.iter().position(|work| *work == self)
    }

    /// Returns the least time that the machine needs: to read what has to be read, or to compute.
    pub fn limit(self, model: &Model, limits: Limits) -> f64 {
        let description = &model.description;
        let embedding = description.vocabulary * description.width;
        let (rows, wanted, seen) = match self {
            Work::Prefill(tokens) => (tokens, 1, tokens * (tokens + 1) / 2),
            Work::Decode(sequences, cached) => (sequences, sequences, sequences * (cached + 1)),
            Work::Mixed(sequences, tokens) => {
                let seen = sequences * (CACHED + 1) + tokens * (tokens + 1) / 2;
                (sequences + tokens, sequences + 1, seen)
            }
        };
        let layers = description.parameters() - embedding * (2 - usize::from(description.tied_head));
        // An embedding that is not the head as well is hardly read.
        let unread = if description.tied_head {
            0.0
        } else {
            model.weights as f64 * embedding as f64 / description.parameters() as f64
        };
        let cached = match self {
            Work::Prefill(_) => 0,
            Work::Decode(..) => seen,
            Work::Mixed(sequences, _) => sequences * (CACHED + 1),
        };
        let bytes = model.weights as f64 - unread + (cached * model.token_bytes) as f64;
        let products = 2.0 * rows as f64 * layers as f64;
        let peak = if model.is_whole {
            limits.dot_product
        } else {
            limits.multiply_add
        };
        let attention = 4 * seen * description.heads * description.head_dim * description.layers;
        let floats = (2 * wanted * embedding + attention) as f64;
        (bytes / limits.read).max(products / peak + floats / limits.multiply_add)
    }
}
