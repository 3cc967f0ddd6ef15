//! From a conversation to the text and token ids of a prompt.

use crate::problem::Problem;
use vastrelay_serving::Replica;
use vastrelay_text::{Message, Tokenizer};
use vastrelay_wire::chat::{ChatMessage, Content};

/// A conversation in the words of a model's template.
pub(crate) struct Rendered {
    /// The text, with control tokens' names in messages still marked as plain text.
    marked: String,
}

impl Rendered {
    /// Renders messages; `answer_start` adds the words after which the model answers.
    ///
    /// # Errors
    /// 400 when the model has no template, there is no message, or the template refuses one.
    pub fn new(replica: &Replica, messages: Vec<ChatMessage>, answer_start: bool) -> Result<Rendered, Problem> {
        let template = replica.template.as_ref().ok_or_else(|| {
            Problem::field(
                "messages",
                format!(
                    "`{}` has no chat template; POST /v1/completions continues text as it is",
                    replica.name
                ),
            )
        })?;
        let messages = messages
            .into_iter()
            .enumerate()
            .map(|(n, message)| plain(n, message, &replica.tokenizer))
            .collect::<Result<Vec<_>, _>>()?;
        if messages.is_empty() {
            return Err(Problem::field(
                "messages",
                "`messages` is empty; one message or more works".into(),
            ));
        }
        let marked = template
            .render(&messages, answer_start)
            .map_err(|e| Problem::field("messages", e.to_string()))?;
        Ok(Rendered { marked })
    }

    /// Returns the token ids.
    ///
    /// # Errors
    /// 400 when the tokenizer's own rules fail on the text.
    pub fn encode(&self, replica: &Replica) -> Result<Vec<u32>, Problem> {
        replica
            .tokenizer
            .encode_defused(&self.marked)
            .map_err(|e| Problem::field("messages", e.to_string()))
    }

    /// Returns the text as it would be read.
    pub fn text(&self) -> String {
        Tokenizer::without_marks(&self.marked)
    }
}

/// Returns a message as templates take it.
fn plain(index: usize, message: ChatMessage, tokenizer: &Tokenizer) -> Result<Message, Problem> {
    let refuse = |field: &str, text: &str| {
        let field = format!("messages[{index}].{field}");
        Err(Problem::field(&field, format!("`{field}` {text}")))
    };
    if message.tool_calls.is_some_and(|calls| !calls.is_empty()) {
        return refuse("tool_calls", "is not supported yet; leave it out");
    }
    if message.refusal.is_some_and(|refusal| !refusal.is_null()) {
        return refuse("refusal", "is not supported; null works");
    }
    let content = message.content.map(Content::into_text).unwrap_or_default();
    Ok(Message {
        role: message.role,
        content: tokenizer.defuse(&content),
    })
}
