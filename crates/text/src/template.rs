//! Chat templates: how a model wants a conversation written.

use crate::error::{TextError, not_json};
use minijinja::{Environment, Error, ErrorKind, Value, context};
use serde::{Deserialize, Serialize};
use std::io::{self, Write};
use std::path::Path;

/// Instructions a template may take; a page of conversation needs some thousands.
const FUEL: u64 = 20_000_000;
/// Most bytes a template may write.
const MOST_BYTES: usize = 16 << 20;
/// Most bytes of a template.
const MOST_SOURCE: u64 = 1 << 20;
/// Most bytes of `tokenizer_config.json`.
const MOST_SETTINGS: u64 = 16 << 20;

/// One message of a conversation.
#[derive(Clone, Debug, Serialize, Deserialize, PartialEq, Eq)]
pub struct Message {
    /// Who speaks: `system`, `user`, `assistant`, or what else the template knows.
    pub role: String,
    /// What is said.
    pub content: String,
}

/// A model's Jinja template, which cannot read files, run code or run for ever.
///
/// It can still ask for much memory. Where that must not harm others, a [`crate::TemplateProcess`] renders it.
pub struct ChatTemplate {
    environment: Environment<'static>,
    parts: TemplateParts,
}

/// A template and what it may name.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct TemplateParts {
    /// The Jinja text.
    pub source: String,
    /// The start token.
    pub bos_token: String,
    /// The end token.
    pub eos_token: String,
}

#[derive(Deserialize, Default)]
struct Settings {
    chat_template: Option<Templates>,
    bos_token: Option<SpecialToken>,
    eos_token: Option<SpecialToken>,
}

#[derive(Deserialize)]
#[serde(untagged)]
enum Templates {
    One(String),
    Named(Vec<NamedTemplate>),
}

#[derive(Deserialize)]
struct NamedTemplate {
    name: String,
    template: String,
}

#[derive(Deserialize)]
#[serde(untagged)]
enum SpecialToken {
    Text(String),
    Added { content: String },
}

impl SpecialToken {
    fn text(self) -> String {
        match self {
            SpecialToken::Text(text) | SpecialToken::Added { content: text } => text,
        }
    }
}

impl ChatTemplate {
    /// Reads `chat_template.jinja`, or the template in `tokenizer_config.json`; `None` when the model has neither.
    ///
    /// # Errors
    /// When a file is malformed or the template is not valid Jinja.
    pub fn open(folder: &Path) -> Result<Option<ChatTemplate>, TextError> {
        let path = folder.join("tokenizer_config.json");
        let settings: Settings = match vastrelay_files::read(&path, MOST_SETTINGS) {
            Ok(text) => serde_json::from_slice(&text).map_err(|e| TextError::Format {
                path: path.clone(),
                reason: not_json(&e),
            })?,
            Err(e) if e.kind() == io::ErrorKind::NotFound => Settings::default(),
            Err(source) => return Err(TextError::Read { path, source }),
        };
        let beside = folder.join("chat_template.jinja");
        let (path, source) = if beside.is_file() {
            let read = |source| TextError::Read {
                path: beside.clone(),
                source,
            };
            let text = vastrelay_files::read(&beside, MOST_SOURCE).map_err(read)?;
            let text = String::from_utf8(text).map_err(|e| read(io::Error::other(e)))?;
            (beside, Some(text))
        } else {
            let source = settings.chat_template.and_then(|templates| match templates {
                Templates::One(text) => Some(text),
                Templates::Named(list) => list.into_iter().find(|t| t.name == "default").map(|t| t.template),
            });
            (path, source)
        };
        let Some(source) = source else { return Ok(None) };
        let bos_token = settings.bos_token.map(SpecialToken::text).unwrap_or_default();
        let eos_token = settings.eos_token.map(SpecialToken::text).unwrap_or_default();
        ChatTemplate::new(source, bos_token, eos_token)
            .map(Some)
            .map_err(|e| TextError::Format {
                path,
                reason: match e.line() {
                    Some(line) => format!("line {line} of the chat template is not valid Jinja"),
                    None => "the chat template is not valid Jinja".into(),
                },
            })
    }

    /// Compiles a template.
    ///
    /// # Errors
    /// Jinja's own, when it is not valid.
    pub fn new(source: String, bos_token: String, eos_token: String) -> Result<ChatTemplate, Error> {
        let mut environment = Environment::new();
        environment.set_trim_blocks(true);
        environment.set_lstrip_blocks(true);
        environment.set_fuel(Some(FUEL));
        environment.set_recursion_limit(100);
        environment.set_unknown_method_callback(minijinja_contrib::pycompat::unknown_method_callback);
        environment.add_function("raise_exception", |message: String| -> Result<Value, Error> {
            Err(Error::new(ErrorKind::InvalidOperation, message))
        });
        environment.add_template_owned("chat", source.clone())?;
        let parts = TemplateParts {
            source,
            bos_token,
            eos_token,
        };
        Ok(ChatTemplate { environment, parts })
    }

    /// Returns the template's text and what it may name.
    pub fn parts(&self) -> &TemplateParts {
        &self.parts
    }

    /// Writes a conversation as the model wants it; `answer_next` ends it where the model's answer begins.
    ///
    /// # Errors
    /// When the template refuses the conversation, fails, or exceeds its bounds of time or size.
    pub fn render(&self, messages: &[Message], answer_next: bool) -> Result<String, TextError> {
        let template = self.environment.get_template("chat").map_err(failure_of)?;
        let values = context! {
            messages,
            add_generation_prompt => answer_next,
            bos_token => self.parts.bos_token,
            eos_token => self.parts.eos_token,
            tools => Value::from(()),
        };
        let mut out = Bounded(Vec::new());
        template.render_captured_to(values, &mut out).map_err(failure_of)?;
        String::from_utf8(out.0).map_err(|e| TextError::Template(e.to_string()))
    }
}

/// Says what went wrong without the program's own words around it.
fn failure_of(error: Error) -> TextError {
    let text = match (error.kind(), error.detail()) {
        (ErrorKind::OutOfFuel, _) => format!("it did not end within {FUEL} instructions"),
        (ErrorKind::WriteFailure, _) => format!("it wrote more than {} MiB", MOST_BYTES >> 20),
        (_, Some(detail)) => detail.to_owned(),
        (_, None) => error.to_string(),
    };
    match error.line() {
        Some(line) => TextError::Template(format!("{text} (template line {line})")),
        None => TextError::Template(text),
    }
}

/// Memory that takes [`MOST_BYTES`] and no more.
struct Bounded(Vec<u8>);

impl Write for Bounded {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        if self.0.len() + bytes.len() > MOST_BYTES {
            return Err(io::Error::other("full"));
        }
        self.0.extend_from_slice(bytes);
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn render(source: &str) -> Result<String, TextError> {
        let messages = [("system", " be brief "), ("user", "Hi")].map(|(role, content)| Message {
            role: role.into(),
            content: content.into(),
        });
        ChatTemplate::new(source.into(), "<s>".into(), "</s>".into())
            .unwrap()
            .render(&messages, true)
    }

    #[test]
    fn common_constructs_of_published_templates_work() {
        let source = "{{ bos_token }}{%- for m in messages %}
            {%- if m['role'] == 'system' %}[{{ m['content'] | trim }}]
            {%- elif loop.last and m.content.startswith('H') %}{{ m.content.strip() + eos_token }}{% endif %}
            {%- endfor %}{% if add_generation_prompt %}{{ '>' }}{% endif %}{% if tools is none %}.{% endif %}";
        assert_eq!(render(source).unwrap(), "<s>[be brief]Hi</s>>.");
    }

    #[test]
    fn a_refusal_reaches_the_caller_in_the_templates_words() {
        let error = render("{{ raise_exception('roles must alternate') }}")
            .unwrap_err()
            .to_string();
        assert!(error.contains("roles must alternate"), "{error}");
    }

    #[test]
    fn a_template_cannot_run_or_write_for_ever() {
        let endless = "{% for a in range(100000) %}{% for b in range(100000) %}{% set c = b %}{% endfor %}{% endfor %}";
        assert!(render(endless).unwrap_err().to_string().contains("did not end"));
        let huge = "{% set s = 'x' * 100000 %}{% for a in range(1000) %}{{ s }}{% endfor %}";
        assert!(render(huge).unwrap_err().to_string().contains("wrote more"));
    }
}
