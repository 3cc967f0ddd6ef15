//! Mistakes of a spec that its reader finds, in words for people.

/// Share of letters that a misspelt key has in common with the right one.
const LEAST_ALIKE: f64 = 0.6;

/// Returns what a reader's message says, without its words: the key that was meant, the kinds of values.
pub(super) fn in_words(message: &str) -> String {
    let message = message.trim_end();
    if let Some(rest) = message.strip_prefix("unknown field ") {
        return unknown_key(rest);
    }
    if let Some(key) = message.strip_prefix("missing field ") {
        return format!("{key} is missing; write model = \"PATH\", a folder or a GGUF file");
    }
    for (start, link) in [
        ("invalid type: ", "it is"),
        ("invalid value: ", "it is"),
        ("invalid length ", "its length is"),
    ] {
        if let Some((found, wanted)) = message
            .strip_prefix(start)
            .and_then(|rest| rest.split_once(", expected "))
        {
            return format!(
                "{link} the {found}; write {}",
                wanted.replace("a string", "a text in quotes")
            );
        }
    }
    if let Some(rest) = message.strip_prefix("duplicate key") {
        return format!("the key{rest} stands there twice; leave one out");
    }
    format!("this is no TOML: {message}")
}

/// Returns the key that an unknown one is likely to be, and all that would work.
fn unknown_key(rest: &str) -> String {
    let mut named = rest.split('`').skip(1).step_by(2);
    let wrong = named.next().unwrap_or("");
    let known: Vec<&str> = named.collect();
    let alike = |key: &&&str| strsim::normalized_damerau_levenshtein(wrong, key);
    let best = known.iter().max_by(|a, b| alike(a).total_cmp(&alike(b)));
    let meant = best
        .filter(|key| alike(key) >= LEAST_ALIKE)
        .map_or(String::new(), |key| format!("did you mean `{key}`? "));
    format!("`{wrong}` is no key here; {meant}keys are `{}`", known.join("`, `"))
}

#[cfg(test)]
mod tests {
    use super::in_words;

    #[test]
    fn no_words_of_the_reader_are_left() {
        for (message, words) in [
            (
                "unknown field `witdh`, expected one of `width`, `context`",
                "did you mean `width`",
            ),
            ("unknown field `zzz`, expected `type`", "keys are `type`"),
            ("missing field `model`", "`model` is missing"),
            ("invalid type: integer `3`, expected a string", "write a text in quotes"),
            (
                "invalid value: integer `0`, expected a whole number from 1 on",
                "write a whole number from 1 on",
            ),
            ("duplicate key", "twice"),
        ] {
            let text = in_words(message);
            assert!(
                text.contains(words) && !text.contains("expected") && !text.contains("field"),
                "{text}"
            );
        }
    }
}
