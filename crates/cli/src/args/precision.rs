//! The precision of weights, and of keys and values.

use crate::failure::Failure;
use clap::{Args, ValueEnum};
use vastrelay_serving::{KvPrecision, Precision};

/// Precision of weights and KV cache.
#[derive(Args, Clone)]
pub struct PrecisionOptions {
    /// Weight precision to run in; with int8 and int4, embeddings and head stay as stored
    #[arg(long, value_name = "PRECISION", value_parser = ["as-stored", "f32", "bf16", "int8", "int4"], default_value = "as-stored")]
    pub weights: String,
    /// Weights per scale, for int8 and int4: 32, 64 or 128 [default: 32]
    #[arg(long, value_name = "N")]
    pub group: Option<usize>,
    /// KV cache precision [default: the build's own, else bf16]
    #[arg(long, value_name = "PRECISION")]
    pub kv: Option<Kv>,
}

#[derive(Clone, Copy, ValueEnum)]
pub enum Kv {
    F32,
    Bf16,
    Int8,
}

impl From<Kv> for KvPrecision {
    fn from(kv: Kv) -> KvPrecision {
        match kv {
            Kv::F32 => KvPrecision::F32,
            Kv::Bf16 => KvPrecision::Bf16,
            Kv::Int8 => KvPrecision::Int8,
        }
    }
}

impl PrecisionOptions {
    /// Returns the precision of weights.
    pub fn weights(&self) -> Result<Precision, Failure> {
        Precision::of(&self.weights, self.group)
            .map_err(|error| Failure::usage(format!("--weights and --group: {error}")))
    }
}
