//! From a conversation to the text and token ids of a prompt.

use crate::http::problem::Problem;
use crate::http::text_threads::Renderer;
use vastrelay_control::endpoints::endpoint::Endpoint;
use vastrelay_fleet::Mode;
use vastrelay_text::{Message, Tokenizer};
use vastrelay_wire::chat::{ChatMessage, Content};

/// Refuses text with more bytes than the model's context can hold, before any work is done on it.
///
/// # Errors
/// 400 with both numbers.
pub(crate) fn check_bytes(endpoint: &Endpoint, field: &str, bytes: usize) -> Result<(), Problem> {
    let context = endpoint.limits().context;
    let most = endpoint.model.tokenizer.most_bytes(context);
    if bytes > most {
        return Err(Problem::prompt_too_large(field, bytes, most, context));
    }
    Ok(())
}

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
    pub fn new(
        renderer: &mut Renderer,
        endpoint: &Endpoint,
        messages: Vec<ChatMessage>,
        answer_start: bool,
    ) -> Result<Rendered, Problem> {
        let takes = endpoint.answer_settings.takes(Mode::Chat, &endpoint.name);
        takes.map_err(|text| Problem::field("model", text))?;
        let template = endpoint.template().ok_or_else(|| {
            Problem::field(
                "messages",
                format!(
                    "`{}` has no chat template; use POST /v1/completions, which continues text as it is",
                    endpoint.name
                ),
            )
        })?;
        let bytes = messages
            .iter()
            .filter_map(|message| message.content.as_ref())
            .map(Content::bytes)
            .sum();
        check_bytes(endpoint, "messages", bytes)?;
        let messages = messages
            .into_iter()
            .enumerate()
            .map(|(n, message)| plain(n, message, &endpoint.model.tokenizer))
            .map(|message| message.map(|message| as_known_role(message, &template.parts().source)))
            .collect::<Result<Vec<_>, _>>()?;
        if messages.is_empty() {
            return Err(Problem::field(
                "messages",
                "`messages` is empty; send one message or more".into(),
            ));
        }
        let marked = renderer
            .render(template, &messages, answer_start)
            .map_err(|e| Problem::field("messages", e.to_string()))?;
        check_bytes(endpoint, "messages", marked.len())?;
        Ok(Rendered { marked })
    }

    /// Returns the token ids.
    ///
    /// # Errors
    /// 400 when the tokenizer's own rules fail on the text.
    pub fn encode(&self, endpoint: &Endpoint) -> Result<Vec<u32>, Problem> {
        endpoint
            .model
            .tokenizer
            .encode_defused(&self.marked)
            .map_err(|e| Problem::field("messages", e.to_string()))
    }

    /// Returns the text as it would be read.
    pub fn text(&self) -> String {
        Tokenizer::without_marks(&self.marked)
    }
}

/// Returns a message whose role the template knows: `developer` is the newer word for `system`, which older templates refuse.
fn as_known_role(message: Message, template: &str) -> Message {
    match message.role.as_str() {
        "developer" if !template.contains("developer") => Message {
            role: "system".into(),
            ..message
        },
        _ => message,
    }
}

/// Returns a message as templates take it.
fn plain(index: usize, message: ChatMessage, tokenizer: &Tokenizer) -> Result<Message, Problem> {
    let refuse = |field: &str, text: &str| {
        let field = format!("messages[{index}].{field}");
        Err(Problem::field(&field, format!("`{field}` {text}")))
    };
    let unsupported = [
        ("tool_calls", message.tool_calls.is_some_and(|calls| calls.0 > 0)),
        ("tool_call_id", message.tool_call_id.is_some()),
        ("function_call", message.function_call.is_some()),
        ("refusal", message.refusal.is_some()),
        ("audio", message.audio.is_some()),
    ];
    if let Some((field, _)) = unsupported.into_iter().find(|(_, is_there)| *is_there) {
        return refuse(field, "is not supported; leave it out or send null");
    }
    let content = message.content.map(Content::into_text).unwrap_or_default();
    Ok(Message {
        role: message.role,
        content: tokenizer.defuse(&content),
    })
}
