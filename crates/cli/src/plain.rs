//! Text that a terminal may be told.

use std::borrow::Cow;
use std::io::Write;

/// Returns a text without anything that a terminal would obey or that would turn the text's direction: such characters are
/// shown by their codes. Callers and models write some of what we print.
pub fn plain(text: &str) -> Cow<'_, str> {
    if !text.contains(is_command) {
        return Cow::Borrowed(text);
    }
    let shown = text.chars().map(|c| match is_command(c) {
        true => format!("\\u{{{:x}}}", u32::from(c)),
        false => c.to_string(),
    });
    Cow::Owned(shown.collect())
}

/// Whether a terminal may take a character for more than text.
pub fn is_command(c: char) -> bool {
    let turns_direction = matches!(c, '\u{200e}' | '\u{200f}' | '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}');
    turns_direction || c.is_control() && !matches!(c, '\n' | '\t')
}

/// Tells something beside the result, on standard error.
pub fn note(text: impl AsRef<str>) {
    // Whoever does not read it any more misses no result.
    let _ = writeln!(std::io::stderr(), "{}", plain(text.as_ref()));
}
