//! A chat template that is anything: an error or a text, never a panic and never an answer that takes for ever.
#![no_main]

use libfuzzer_sys::fuzz_target;
use vastrelay_text::{ChatTemplate, Message};

fuzz_target!(|source: String| {
    let Ok(template) = ChatTemplate::new(source, "<s>".into(), "</s>".into()) else { return };
    let message = |role: &str, content: &str| Message {
        role: role.into(),
        content: content.into(),
    };
    let _ = template.render(&[message("system", "Be brief."), message("user", "Hello")], true);
});
