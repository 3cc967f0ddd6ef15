//! Words that are nearly a command: the answer names the right one.

use crate::failure::Failure;
use std::ffi::OsString;

/// Commands that are called by one thing, though they show several.
const PLURALS: [(&str, &str); 8] = [
    ("devices", "device"),
    ("endpoints", "endpoint"),
    ("events", "event"),
    ("jobs", "job"),
    ("keys", "key"),
    ("loads", "load"),
    ("models", "model"),
    ("requests", "request"),
];

/// Refuses a command that is called otherwise, and says how.
///
/// # Errors
/// The right form.
pub fn check(words: &[OsString]) -> Result<(), Failure> {
    let Some(first) = words.get(1).and_then(|word| word.to_str()) else {
        return Ok(());
    };
    let Some((_, right)) = PLURALS.iter().find(|(plural, _)| *plural == first) else {
        return Ok(());
    };
    let rest = words[2..].iter().map(|word| format!(" {}", word.to_string_lossy()));
    Err(Failure::usage(format!(
        "there is no command `{first}`; use vastrelay {right}{}",
        rest.collect::<String>()
    )))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_plural_is_answered_with_the_command() {
        let words = |text: &str| text.split(' ').map(OsString::from).collect::<Vec<_>>();
        let refused = check(&words("vastrelay events list --follow")).unwrap_err();
        assert!(
            refused.to_string().contains("vastrelay event list --follow"),
            "{refused}"
        );
        assert!(check(&words("vastrelay event list")).is_ok());
        assert!(check(&words("vastrelay")).is_ok());
    }
}
