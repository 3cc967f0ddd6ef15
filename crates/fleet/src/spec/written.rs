//! A spec as TOML writes it.

use super::values::{Count, Names, Number, Time};
use crate::answering::NamedToken;
use schemars::JsonSchema;
use serde::Deserialize;
use toml::Spanned;

/// An endpoint of Vast Relay: the file has its name.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(title = "Endpoint")]
pub struct Written {
    /// The model: a folder or a GGUF file, from this file's folder on.
    #[schemars(with = "String", length(min = 1))]
    pub model: Spanned<String>,
    /// What weights, keys and values are computed and kept in.
    #[serde(default)]
    pub precision: WrittenPrecision,
    /// Where it runs.
    #[serde(default)]
    pub device: WrittenDevice,
    /// What it may take of its device's memory.
    #[serde(default)]
    pub memory: WrittenMemory,
    /// How requests are computed together.
    #[serde(default)]
    pub batch: WrittenBatch,
    /// Who waits for the batch.
    #[serde(default)]
    pub queue: WrittenQueue,
    /// What calls are: `chat` for conversations, `plain` for texts that are continued; both when absent.
    #[schemars(with = "Option<String>", extend("enum" = MODES))]
    pub mode: Option<Spanned<String>>,
    /// A file with the chat template to use instead of the model's own, from this file's folder on.
    #[schemars(with = "Option<String>", length(min = 1))]
    pub template: Option<Spanned<String>>,
    /// Sampling where a call says nothing; as the model's publisher says when absent.
    #[serde(default)]
    pub defaults: WrittenDefaults,
    /// Tokens with a meaning of their own.
    #[serde(default)]
    pub tokens: WrittenTokens,
    /// What is recorded of calls.
    #[serde(default)]
    pub records: WrittenRecords,
    /// How long things may take.
    #[serde(default)]
    pub limits: WrittenLimits,
    /// How many replicas there are.
    #[serde(default)]
    pub replicas: WrittenReplicas,
    /// How long after its start it stops by itself, such as 12h; never when absent.
    #[schemars(with = "Option<TextOrSeconds>")]
    pub stop_after: Option<Spanned<Time>>,
}

/// A length of time: a text such as 30s, or a number of seconds.
#[derive(JsonSchema)]
#[serde(untagged)]
#[expect(dead_code, reason = "it stands in the schema only")]
pub enum TextOrSeconds {
    Text(String),
    Seconds(f64),
}

#[derive(Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct WrittenPrecision {
    /// Precision of weights; as stored when absent.
    #[schemars(with = "Option<String>", extend("enum" = WEIGHTS))]
    pub weights: Option<Spanned<String>>,
    /// Weights that share a scale, for int8 and int4.
    #[schemars(with = "Option<usize>", extend("enum" = GROUPS))]
    pub group: Option<Spanned<Count>>,
    /// Precision of keys and values; bf16 when absent.
    #[schemars(with = "Option<String>", extend("enum" = KV))]
    pub kv: Option<Spanned<String>>,
}

#[derive(Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct WrittenDevice {
    /// A device profile by its name or file, or a list of them: the first with room. The processor when absent.
    #[schemars(with = "Option<OneOrMany>")]
    pub profile: Option<Spanned<Names>>,
    /// Devices, or parts of the processor, that a replica spans.
    #[schemars(with = "Option<usize>", range(min = 1))]
    pub split: Option<Spanned<Count>>,
    /// Cores of a replica on the processor, or a fraction of one; the free whole ones when absent, or else as much as others have.
    #[schemars(with = "Option<f64>", range(min = 0.05))]
    pub cores: Option<Spanned<Number>>,
}

#[derive(Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct WrittenMemory {
    /// Fraction of a device's memory that a replica may take.
    #[schemars(with = "Option<f64>", range(min = 0, max = 1))]
    pub share: Option<Spanned<Number>>,
    /// KV pages; as many as fit and are of use when absent.
    #[schemars(with = "Option<usize>", range(min = 1))]
    pub pages: Option<Spanned<Count>>,
}

#[derive(Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct WrittenBatch {
    /// Maximum sequences in a batch.
    #[schemars(with = "Option<usize>", range(min = 1))]
    pub width: Option<Spanned<Count>>,
    /// Most tokens in one step, prefill and decode together.
    #[schemars(with = "Option<usize>", range(min = 1))]
    pub step_budget: Option<Spanned<Count>>,
    /// Most prompt tokens of one sequence in a step.
    #[schemars(with = "Option<usize>", range(min = 1))]
    pub prefill_chunk: Option<Spanned<Count>>,
    /// Most tokens of a sequence, prompt and answer; the model's own when absent.
    #[schemars(with = "Option<usize>", range(min = 1))]
    pub context: Option<Spanned<Count>>,
    /// A typical sequence: tokens of its prompt and its answer, such as 600+200.
    #[schemars(with = "Option<String>", regex(pattern = r"^\d+\+\d+$"))]
    pub typical: Option<Spanned<String>>,
}

#[derive(Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct WrittenQueue {
    /// Most requests that wait for the batch.
    #[schemars(with = "Option<usize>", range(min = 1))]
    pub depth: Option<Spanned<Count>>,
    /// Longest that one waits for it, such as 30s or 2m; any time when absent.
    #[schemars(with = "Option<TextOrSeconds>")]
    pub wait: Option<Spanned<Time>>,
}

#[derive(Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct WrittenDefaults {
    /// How freely tokens are drawn; 0 takes the likeliest.
    #[schemars(with = "Option<f32>", range(min = 0, max = 2))]
    pub temperature: Option<Spanned<Number>>,
    /// Share of probability that is drawn from.
    #[schemars(with = "Option<f32>", range(min = 0, max = 1))]
    pub top_p: Option<Spanned<Number>>,
    /// Tokens that are drawn from.
    #[schemars(with = "Option<usize>", range(min = 1))]
    pub top_k: Option<Spanned<Count>>,
    /// Least probability that is drawn from, as a share of the likeliest token's.
    #[schemars(with = "Option<f32>", range(min = 0, max = 1))]
    pub min_p: Option<Spanned<Number>>,
    /// What divides the scores of tokens that are there already.
    #[schemars(with = "Option<f32>", range(min = 0.01, max = 10))]
    pub repetition_penalty: Option<Spanned<Number>>,
    /// What is taken from the scores of tokens that were produced.
    #[schemars(with = "Option<f32>", range(min = -2, max = 2))]
    pub presence_penalty: Option<Spanned<Number>>,
    /// What is taken from the scores of tokens for each time that they were produced.
    #[schemars(with = "Option<f32>", range(min = -2, max = 2))]
    pub frequency_penalty: Option<Spanned<Number>>,
    /// Most tokens of an answer in a conversation; as many as there is room for when absent.
    #[schemars(with = "Option<usize>", range(min = 1))]
    pub max_tokens: Option<Spanned<Count>>,
}

#[derive(Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct WrittenTokens {
    /// Tokens that end an answer, besides the model's own: their texts or their numbers.
    #[schemars(with = "Option<Vec<TextOrId>>")]
    pub stop: Option<Spanned<Vec<NamedToken>>>,
}

#[derive(Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct WrittenRecords {
    /// Whether prompts and answers are kept with the records; as the service was started when absent.
    #[schemars(with = "Option<bool>")]
    pub texts: Option<Spanned<bool>>,
}

#[derive(Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct WrittenLimits {
    /// Longest that a replica may take to start, such as 5m; any time when absent.
    #[schemars(with = "Option<TextOrSeconds>")]
    pub start: Option<Spanned<Time>>,
    /// Longest that a call waits while no replica takes calls, such as 30s; any time when absent.
    #[schemars(with = "Option<TextOrSeconds>")]
    pub wait: Option<Spanned<Time>>,
    /// Longest that an answer may take from the call's arrival, such as 2m; any time when absent.
    #[schemars(with = "Option<TextOrSeconds>")]
    pub answer: Option<Spanned<Time>>,
}

#[derive(Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct WrittenReplicas {
    /// The time without calls after which it is parked, such as 10m: it gives its memory back, and the next call starts it again. Never when absent.
    #[schemars(with = "Option<TextOrSeconds>")]
    pub idle_after: Option<Spanned<Time>>,
}

/// A token.
#[derive(JsonSchema)]
#[serde(untagged)]
#[allow(dead_code, reason = "only its schema is used")]
pub enum TextOrId {
    Text(String),
    Id(u32),
}

/// A name, or several.
#[derive(JsonSchema)]
#[serde(untagged)]
#[allow(dead_code, reason = "only its schema is used")]
pub enum OneOrMany {
    One(String),
    Many(#[schemars(length(min = 1))] Vec<String>),
}

pub const MODES: [&str; 2] = ["chat", "plain"];
pub const WEIGHTS: [&str; 5] = ["as-stored", "f32", "bf16", "int8", "int4"];
pub const GROUPS: [usize; 3] = [32, 64, 128];
pub const KV: [&str; 3] = ["f32", "bf16", "int8"];
