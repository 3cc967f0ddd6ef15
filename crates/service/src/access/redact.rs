//! Keys do not get into logs and records, wherever a caller puts them.

use crate::access::keys::PREFIX;
use std::borrow::Cow;

/// Characters of a key's id, which may be shown.
const ID: usize = 8;

/// Returns a text in which keys show their id only.
pub(crate) fn redact(text: &str) -> Cow<'_, str> {
    if !text.contains(PREFIX) {
        return Cow::Borrowed(text);
    }
    let mut plain = String::with_capacity(text.len());
    let mut rest = text;
    while let Some(at) = rest.find(PREFIX) {
        let (before, key) = rest.split_at(at);
        plain.push_str(before);
        let length = length_of_key(key);
        plain.push_str(&key[..length.min(PREFIX.len() + ID)]);
        if length > PREFIX.len() + ID {
            plain.push_str("-…");
        }
        rest = &key[length..];
    }
    plain.push_str(rest);
    Cow::Owned(plain)
}

/// Returns how much of a text that begins as a key is one, whole or cut short: an id, a hyphen and a secret.
fn length_of_key(text: &str) -> usize {
    let hex = |text: &str| text.bytes().take_while(u8::is_ascii_hexdigit).count();
    let id = hex(&text[PREFIX.len()..]);
    let end = PREFIX.len() + id;
    if id == ID && text[end..].starts_with('-') {
        end + 1 + hex(&text[end + 1..])
    } else {
        PREFIX.len()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn keys_show_their_id_only_wherever_they_stand() {
        let secret = "0123456789abcdef";
        let key = format!("vr-1f0c22ab-{secret}");
        for text in [
            key.clone(),
            format!("{{\"user\":\"{key}\"}}"),
            format!("x{key}y{key}"),
            format!("vr-{key}"),
        ] {
            let plain = redact(&text);
            assert!(!plain.contains(secret) && plain.contains("vr-1f0c22ab-…"), "{plain}");
        }
        assert_eq!(redact("vr-x and vr- and plain"), "vr-x and vr- and plain");
    }

    proptest! {
        #[test]
        fn any_text_around_a_key_stays(before in "[^v]*", after in "[^0-9a-fA-F]?.{0,10}") {
            let text = format!("{before}vr-1f0c22ab-00112233{after}");
            if !after.contains("vr-") && !after.starts_with(|c: char| c.is_ascii_hexdigit()) {
                prop_assert_eq!(redact(&text), format!("{before}vr-1f0c22ab-…{after}"));
            }
        }
    }
}
