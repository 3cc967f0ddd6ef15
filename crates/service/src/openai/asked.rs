//! The recorded part of a request: its known fields, bounded and without secrets.

use crate::access::redact::redact;
use serde::Serialize;
use serde_json::{Map, Value, json};

/// Most bytes of a field that are kept.
const MOST_OF_A_FIELD: usize = 512;
/// Most characters of a model's name that are kept.
const MOST_OF_A_NAME: usize = 100;
/// Most bytes of a prompt that are kept.
const MOST_OF_A_PROMPT: usize = 1 << 20;

/// What a call asks for, as it is recorded.
pub(super) struct Asked {
    pub model: String,
    pub streamed: bool,
    /// The known fields as JSON, without prompt or messages.
    pub parameters: String,
    /// The prompt or the messages, when they are kept.
    pub prompt: Option<String>,
}

impl Asked {
    /// Returns what is kept of a request whose prompt or messages have been taken out.
    pub fn new(model: &str, streamed: bool, request: &impl Serialize) -> Asked {
        let fields = match serde_json::to_value(request) {
            Ok(Value::Object(fields)) => fields,
            _ => Map::new(),
        };
        let kept = fields
            .into_iter()
            .filter(|(name, _)| !["model", "messages", "prompt", "metadata"].contains(&name.as_str()))
            .map(|(name, value)| (name, bounded(value)));
        let parameters = Value::Object(kept.collect()).to_string();
        let model: String = model.chars().take(MOST_OF_A_NAME).collect();
        Asked {
            model: redact(&model).into_owned(),
            streamed,
            parameters: redact(&parameters).into_owned(),
            prompt: None,
        }
    }

    /// Keeps the prompt or the messages, too.
    pub fn keep_prompt(&mut self, prompt: &impl Serialize) {
        let text = serde_json::to_string(prompt).unwrap_or_default();
        let text = match text.len() {
            0..=MOST_OF_A_PROMPT => text,
            bytes => bounded_note(bytes).to_string(),
        };
        self.prompt = Some(redact(&text).into_owned());
    }
}

fn bounded(value: Value) -> Value {
    let bytes = value.to_string().len();
    if bytes <= MOST_OF_A_FIELD {
        value
    } else {
        bounded_note(bytes)
    }
}

/// What is kept in place of something too large.
fn bounded_note(bytes: usize) -> Value {
    json!({ "not_kept_bytes": bytes })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn fields_are_bounded_and_keys_do_not_get_into_records() {
        let key = format!("vr-1f0c22ab-{}", "0f".repeat(24));
        let request =
            json!({"model": "m", "messages": ["secret"], "user": key, "stop": ["x".repeat(5_000)], "seed": 7});
        let mut asked = Asked::new(&format!("{key}{}", "m".repeat(5_000)), true, &request);
        asked.keep_prompt(&json!([{"content": key}]));
        let fields: Value = serde_json::from_str(&asked.parameters).unwrap();
        assert_eq!(
            fields,
            json!({"user": "vr-1f0c22ab-…", "stop": {"not_kept_bytes": 5_004}, "seed": 7})
        );
        assert!(
            asked.model.len() < 200 && !asked.model.contains("0f0f"),
            "{}",
            asked.model
        );
        assert!(!asked.prompt.unwrap().contains("0f0f"));
    }
}
