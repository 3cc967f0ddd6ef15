//! Where prompts come from.

use crate::workload::Lengths;
use rand::rngs::StdRng;
use rand::{Rng, SeedableRng};
use serde::Deserialize;
use vastrelay_wire::chat::{ChatMessage, Content};

/// What a model has room for.
#[derive(Clone, Copy, Debug)]
pub struct Room {
    /// Tokens that it knows.
    pub vocabulary: usize,
    /// Most tokens of prompt and answer.
    pub context: usize,
}

/// What one request asks.
#[derive(Clone, Debug)]
pub enum Prompt {
    /// A conversation, for the chat endpoint.
    Messages(Vec<ChatMessage>),
    /// A text to be continued.
    Text(String),
    /// Token ids to be continued.
    Ids(Vec<u32>),
}

/// Why prompts cannot be had.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum PromptError {
    /// A line that is no prompt.
    #[error("line {line}: {reason}; {{\"messages\": […]}}, {{\"prompt\": \"…\"}} and {{\"question\": \"…\"}} work")]
    Line {
        /// Which, from 1 on.
        line: usize,
        /// What is wrong.
        reason: String,
    },
    /// There is none.
    #[error("no prompts; write one JSON object per line")]
    Empty,
}

/// A line of a file of prompts; other fields are left alone.
#[derive(Deserialize)]
struct Line {
    messages: Option<Vec<ChatMessage>>,
    prompt: Option<String>,
    question: Option<String>,
}

/// Reads prompts from JSON Lines: each object has `messages`, a `prompt` to be continued, or a `question` for the chat.
///
/// # Errors
/// Which line is wrong, and how.
pub fn from_json_lines(text: &str) -> Result<Vec<Prompt>, PromptError> {
    let mut prompts = Vec::new();
    for (index, text) in text.lines().enumerate().filter(|(_, text)| !text.trim().is_empty()) {
        let wrong = |reason: String| PromptError::Line {
            line: index + 1,
            reason,
        };
        let line: Line = serde_json::from_str(text).map_err(|e| wrong(e.to_string()))?;
        prompts.push(match (line.messages, line.prompt, line.question) {
            (Some(messages), None, None) if !messages.is_empty() => Prompt::Messages(messages),
            (None, Some(prompt), None) => Prompt::Text(prompt),
            (None, None, Some(question)) => self::question(&question),
            _ => return Err(wrong("it has none of the fields that make a prompt, or several".into())),
        });
    }
    if prompts.is_empty() {
        return Err(PromptError::Empty);
    }
    Ok(prompts)
}

/// Returns a question for the chat.
pub fn question(text: &str) -> Prompt {
    Prompt::Messages(vec![message_of("user", text.to_owned())])
}

fn message_of(role: &str, text: String) -> ChatMessage {
    ChatMessage {
        role: role.into(),
        content: Some(Content::Text(text)),
        ..ChatMessage::default()
    }
}

/// Makes prompts of random token ids, all different, so that nothing but what is shared on purpose can be reused.
/// They leave room for an answer.
pub fn synthetic(count: usize, lengths: Lengths, shared_prefix: usize, room: Room, seed: u64) -> Vec<Prompt> {
    let vocabulary = room.vocabulary as u32;
    let mut random = StdRng::seed_from_u64(seed ^ 0x7072_6f6d_7074);
    // The first ids of many vocabularies are control tokens, and the last too.
    let ids = (vocabulary / 8)..(vocabulary - vocabulary / 8).max(vocabulary / 8 + 1);
    let prefix: Vec<u32> = (0..shared_prefix).map(|_| random.random_range(ids.clone())).collect();
    let one = |random: &mut StdRng| {
        let length = lengths
            .draw(random)
            .max(shared_prefix + 1)
            .min(room.context.saturating_sub(1).max(1));
        let rest = (shared_prefix.min(length)..length).map(|_| random.random_range(ids.clone()));
        Prompt::Ids(prefix.iter().copied().chain(rest).collect())
    };
    (0..count).map(|_| one(&mut random)).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_of_each_kind_are_read_and_others_refused_by_number() {
        let good = "{\"question\": \"a\", \"answer\": 1}\n\n{\"prompt\": \"b\"}\n{\"messages\": [{\"role\": \"user\", \"content\": \"c\"}]}";
        assert_eq!(from_json_lines(good).unwrap().len(), 3);
        for (text, words) in [
            ("{\"prompt\": \"a\"}\n{", "line 2"),
            ("{}", "line 1"),
            ("{\"prompt\": \"a\", \"question\": \"b\"}", "several"),
            ("\n", "no prompt"),
        ] {
            let error = from_json_lines(text).unwrap_err().to_string();
            assert!(error.contains(words), "{error}");
        }
    }

    #[test]
    fn synthetic_prompts_share_what_is_asked_for_and_no_more() {
        let prompts = synthetic(
            50,
            Lengths::Fixed(40),
            10,
            Room {
                vocabulary: 2048,
                context: 2048,
            },
            3,
        );
        let ids: Vec<&Vec<u32>> = prompts
            .iter()
            .map(|prompt| match prompt {
                Prompt::Ids(ids) => ids,
                _ => panic!("ids"),
            })
            .collect();
        assert!(ids.iter().all(|one| one.len() == 40 && one[..10] == ids[0][..10]));
        assert!(ids.iter().skip(1).all(|one| one[10..] != ids[0][10..]));
        assert!(ids.iter().flat_map(|one| one.iter()).all(|id| *id < 2048));
    }
}
