//! `generation_config.json`: where answers end and how they are sampled unless a request says otherwise.

use crate::checkpoint::read_json;
use crate::error::WeightsError;
use crate::model_files::ModelFiles;
use serde::Deserialize;

/// What a model's publisher says about generating with it.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct GenerationDefaults {
    /// Tokens that end an answer.
    pub end_ids: Vec<u32>,
    /// Sampling temperature.
    pub temperature: Option<f32>,
    /// Share of probability that sampling keeps.
    pub top_p: Option<f32>,
    /// Number of most probable tokens that sampling keeps.
    pub top_k: Option<u32>,
    /// Penalty on tokens that have been there.
    pub repetition_penalty: Option<f32>,
}

#[derive(Deserialize)]
#[serde(untagged)]
enum OneOrMany {
    One(u32),
    Many(Vec<u32>),
}

#[derive(Deserialize, Default)]
struct File {
    eos_token_id: Option<OneOrMany>,
    temperature: Option<f32>,
    top_p: Option<f32>,
    top_k: Option<u32>,
    repetition_penalty: Option<f32>,
    do_sample: Option<bool>,
}

impl GenerationDefaults {
    /// Reads the end tokens of a GGUF file, or `generation_config.json` of a folder; end tokens come from `config.json` where the former is absent or has none.
    ///
    /// With `do_sample: false` the default temperature is 0.
    ///
    /// # Errors
    /// When a file is malformed.
    pub fn read(files: &ModelFiles) -> Result<GenerationDefaults, WeightsError> {
        if let Some(gguf) = files.gguf() {
            return Ok(GenerationDefaults {
                end_ids: gguf.end_ids(),
                ..GenerationDefaults::default()
            });
        }
        let folder = files.path();
        let path = folder.join("generation_config.json");
        let file: File = if path.is_file() {
            read_json(&path)?
        } else {
            File::default()
        };
        let ends = match file.eos_token_id {
            Some(ends) => Some(ends),
            None => read_json::<File>(&folder.join("config.json"))?.eos_token_id,
        };
        Ok(GenerationDefaults {
            end_ids: match ends {
                Some(OneOrMany::One(id)) => vec![id],
                Some(OneOrMany::Many(ids)) => ids,
                None => Vec::new(),
            },
            temperature: if file.do_sample == Some(false) {
                Some(0.0)
            } else {
                file.temperature
            },
            top_p: file.top_p,
            top_k: file.top_k,
            repetition_penalty: file.repetition_penalty,
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn end_ids_come_from_the_generation_config_first() {
        let folder = tempfile::tempdir().unwrap();
        std::fs::write(folder.path().join("config.json"), r#"{"eos_token_id": 9}"#).unwrap();
        let read = || GenerationDefaults::read(&ModelFiles::open(folder.path()).unwrap()).unwrap();
        assert_eq!(read().end_ids, [9]);
        let text = r#"{"eos_token_id": [3, 4], "temperature": 0.7, "do_sample": false}"#;
        std::fs::write(folder.path().join("generation_config.json"), text).unwrap();
        let defaults = read();
        assert_eq!(defaults.end_ids, [3, 4]);
        assert_eq!(defaults.temperature, Some(0.0));
    }
}
