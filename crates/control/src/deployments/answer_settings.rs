//! How an endpoint's calls are answered, with everything at hand that its spec names.

use std::path::Path;
use vastrelay_fleet::answering::NamedToken;
use vastrelay_fleet::{Answering, Mode};
use vastrelay_serving::{LoadError, Model};
use vastrelay_text::ChatTemplate;

/// Most bytes of a chat template.
const MOST_TEMPLATE: u64 = 1 << 20;

/// How calls are answered.
pub struct AnswerSettings {
    /// The settings of its spec.
    pub said: Answering,
    /// The chat template that its spec names.
    template: Option<ChatTemplate>,
    /// Tokens that end an answer: the model's own and those of its spec.
    pub end_ids: Vec<u32>,
    /// Whether conversations can be answered, and texts continued.
    modes: [bool; 2],
}

impl AnswerSettings {
    /// Returns the answer settings of a model without a spec.
    pub fn of(model: &Model) -> AnswerSettings {
        AnswerSettings {
            said: Answering::default(),
            template: None,
            end_ids: model.defaults.end_ids.clone(),
            modes: [model.template.is_some(), true],
        }
    }

    /// Returns how the calls of a model are answered as a spec says; `template` is the path of the one that it names.
    ///
    /// # Errors
    /// When the template cannot be read, the mode needs a template and there is none, or a token is unknown to the model.
    pub fn read(said: &Answering, template: Option<&Path>, model: &Model) -> Result<AnswerSettings, LoadError> {
        let template = template.map(|path| template_of(path, model)).transpose()?;
        let has_template = template.is_some() || model.template.is_some();
        if said.mode == Some(Mode::Chat) && !has_template {
            let text = "the model has no chat template; name one with `template`, or use mode = \"plain\"";
            return Err(refused("mode", text.into()));
        }
        let mut end_ids = model.defaults.end_ids.clone();
        for token in &said.stop_tokens {
            end_ids.push(id_of(token, model)?);
        }
        Ok(AnswerSettings {
            modes: [
                has_template && said.mode != Some(Mode::Plain),
                said.mode != Some(Mode::Chat),
            ],
            said: said.clone(),
            template,
            end_ids,
        })
    }

    /// Returns the chat template: the one that the spec names, or the model's own.
    pub fn template<'a>(&'a self, model: &'a Model) -> Option<&'a ChatTemplate> {
        self.template.as_ref().or(model.template.as_ref())
    }

    /// Returns the text of the chat template that the spec names.
    pub fn own_template(&self) -> Option<&str> {
        self.template.as_ref().map(|template| template.parts().source.as_str())
    }

    /// Returns the names of the modes in which calls are answered.
    pub fn modes(&self) -> Vec<String> {
        let modes = [Mode::Chat, Mode::Plain].into_iter().zip(self.modes);
        modes
            .filter(|(_, answers)| *answers)
            .map(|(mode, _)| mode.name().into())
            .collect()
    }

    /// Refuses conversations of an endpoint that is there for plain text, and texts of one that is there for conversations.
    ///
    /// # Errors
    /// The address that works.
    pub fn takes(&self, mode: Mode, endpoint: &str) -> Result<(), String> {
        let text = match (mode, self.said.mode) {
            (Mode::Chat, Some(Mode::Plain)) => {
                format!("`{endpoint}` continues plain text; use POST /v1/completions")
            }
            (Mode::Plain, Some(Mode::Chat)) => {
                format!("`{endpoint}` answers conversations; use POST /v1/chat/completions")
            }
            _ => return Ok(()),
        };
        Err(text)
    }
}

/// Reads a template, which may name the tokens that the model's own may.
fn template_of(path: &Path, model: &Model) -> Result<ChatTemplate, LoadError> {
    let named = vastrelay_files::shown(path);
    let shown = named.display();
    let bytes = vastrelay_files::read(path, MOST_TEMPLATE)
        .map_err(|error| refused("template", format!("{shown} cannot be read: {error}")))?;
    let source = String::from_utf8(bytes).map_err(|_| refused("template", format!("{shown} is not text in UTF-8")))?;
    let text_of = |id: Option<&u32>| id.map(|id| model.tokenizer.pieces().text(&[*id])).unwrap_or_default();
    let (begin, end) = match &model.template {
        Some(own) => (own.parts().bos_token.clone(), own.parts().eos_token.clone()),
        None => (
            text_of(model.tokenizer.start().first()),
            text_of(model.defaults.end_ids.first()),
        ),
    };
    // The message never quotes the file: the caller who named it may not be allowed to read it.
    ChatTemplate::new(source, begin, end).map_err(|error| {
        let place = error.line().map_or(String::new(), |line| format!(", line {line}"));
        refused("template", format!("{shown}{place} is not valid Jinja"))
    })
}

/// Returns the number of a token of the model.
fn id_of(token: &NamedToken, model: &Model) -> Result<u32, LoadError> {
    let count = model.description.vocabulary;
    match token {
        NamedToken::Id(id) if (*id as usize) < count => Ok(*id),
        NamedToken::Id(id) => {
            let text = format!("{id} is not a token; this model has tokens 0 to {}", count - 1);
            Err(refused("tokens.stop", text))
        }
        NamedToken::Text(text) => model.tokenizer.id(text).ok_or_else(|| {
            let text =
                format!("`{text}` is not one token of this model; `vastrelay text encode` shows a text's tokens");
            refused("tokens.stop", text)
        }),
    }
}

fn refused(key: &'static str, text: String) -> LoadError {
    LoadError::Setting { key, text }
}
