//! What a model without weights says of them.

use crate::checkpoint::{Checkpoint, read_json};
use crate::description::config_of;
use crate::error::WeightsError;
use crate::kind::Kind;
use crate::model_files::ModelFiles;
use crate::scheme::Scheme;
use serde_json::{Map, Value};
use std::path::Path;

/// What a config says of how its tensors are stored, where there are none to look at.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Declared {
    /// Embeddings, head, routers and norms.
    pub plain: Kind,
    /// All other matrices.
    pub matrices: Kind,
}

impl Declared {
    /// Reads `torch_dtype` and `quantization_config` of a config.
    ///
    /// # Errors
    /// When it cannot be read, or one of the two says what is not known.
    pub fn open(config: &Path) -> Result<Declared, WeightsError> {
        let fields: Map<String, Value> = read_json(config)?;
        let plain = match fields.get("torch_dtype").or_else(|| fields.get("dtype")) {
            Some(Value::String(name)) if name == "float32" => Kind::F32,
            Some(Value::String(name)) if name == "bfloat16" => Kind::Bf16,
            Some(Value::String(name)) if name == "float16" => Kind::F16,
            other => {
                return Err(WeightsError::Field {
                    file: config.to_owned(),
                    field: "torch_dtype".into(),
                    found: other.map_or("missing".into(), Value::to_string),
                    wanted: "use \"float32\", \"bfloat16\" or \"float16\"".into(),
                });
            }
        };
        let scheme = Scheme::of_config(config, &fields)?;
        Ok(Declared {
            plain,
            // Rows are longer than any group.
            matrices: scheme.kind(usize::MAX).unwrap_or(plain),
        })
    }

    /// Returns what a tensor would be stored as.
    pub fn kind(&self, name: &str) -> Kind {
        let is_plain = [
            "embed_tokens.weight",
            "lm_head.weight",
            ".gate.weight",
            "norm.weight",
            ".bias",
        ]
        .iter()
        .any(|end| name.ends_with(end));
        if is_plain { self.plain } else { self.matrices }
    }
}

/// What a model's tensors are stored as: as its files show, or where it has no weights as its config says.
pub enum StoredAs {
    /// Weights.
    Found(Box<Checkpoint>),
    /// A config by itself.
    Declared(Declared),
}

impl StoredAs {
    /// Looks at a folder, a GGUF file or a config by itself.
    ///
    /// # Errors
    /// When it cannot be read.
    pub fn open(path: &Path) -> Result<StoredAs, WeightsError> {
        StoredAs::read(&ModelFiles::open_or_config(path)?)
    }

    /// As [`StoredAs::open`], for a model that is open.
    ///
    /// # Errors
    /// As there.
    pub fn read(files: &ModelFiles) -> Result<StoredAs, WeightsError> {
        let path = files.path();
        if files.gguf().is_some() || Checkpoint::is_one(path) {
            return Ok(StoredAs::Found(Box::new(Checkpoint::read(files)?)));
        }
        Ok(StoredAs::Declared(Declared::open(&config_of(path))?))
    }

    /// Returns what a tensor is stored as.
    pub fn kind(&self, name: &str) -> Kind {
        match self {
            StoredAs::Found(checkpoint) => checkpoint.kind(name),
            StoredAs::Declared(declared) => declared.kind(name),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;
    use vastrelay_kernels::groups::Bits;

    fn declared(config: Value) -> Result<Declared, String> {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("config.json");
        std::fs::write(&path, config.to_string()).unwrap();
        Declared::open(&path).map_err(|error| error.to_string())
    }

    #[test]
    fn a_config_says_how_tensors_would_be_stored() {
        let plain = declared(json!({"torch_dtype": "bfloat16"})).unwrap();
        assert_eq!((plain.plain, plain.matrices), (Kind::Bf16, Kind::Bf16));
        let quantized = declared(json!({
            "torch_dtype": "float16",
            "quantization_config": {"quant_method": "awq", "bits": 4, "group_size": 64, "version": "gemm"},
        }));
        let quantized = quantized.unwrap();
        let groups = Kind::Groups {
            bits: Bits::Four,
            group: 64,
            minima: true,
        };
        assert_eq!(quantized.kind("model.layers.0.mlp.up_proj.weight"), groups);
        assert_eq!(quantized.kind("lm_head.weight"), Kind::F16);
        let error = declared(json!({"torch_dtype": "float8"})).unwrap_err();
        assert!(error.contains("torch_dtype") && error.contains("bfloat16"), "{error}");
    }
}
