//! How much a tokenizer's normalizer can make of a text.

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use serde_json::Value;

/// Unicode's compatibility decomposition makes 33 bytes of the three of U+FDFA.
const DECOMPOSED: usize = 11;
/// What is assumed of a normalizer that is not known here.
const UNKNOWN: usize = 16;

/// Returns the most bytes that a normalizer, in the words of `tokenizer.json`, makes of one byte.
pub(crate) fn growth_of(normalizer: &Value) -> usize {
    let text = |name: &str| normalizer[name].as_str().map_or(0, str::len);
    match normalizer["type"].as_str() {
        None => 1,
        Some("Sequence") => normalizer["normalizers"]
            .as_array()
            .into_iter()
            .flatten()
            .map(growth_of)
            .fold(1, usize::saturating_mul),
        // A pattern may match between any two bytes.
        Some("Replace") => text("content") + 1,
        Some("Prepend") => text("prepend") + 1,
        Some("NFD" | "NFKD" | "NFC" | "NFKC") => DECOMPOSED,
        Some("BertNormalizer") => 3 * DECOMPOSED,
        Some("Lowercase" | "ByteLevel") => 2,
        Some("Strip" | "StripAccents" | "Nmt") => 1,
        Some("Precompiled") => longest_replacement(text_of(normalizer, "precompiled_charsmap")),
        Some(_) => UNKNOWN,
    }
}

fn text_of<'a>(value: &'a Value, name: &str) -> &'a str {
    value[name].as_str().unwrap_or_default()
}

/// Returns the longest replacement in a compiled table of characters: the size of a trie, the trie, and strings that
/// end with a zero.
fn longest_replacement(table: &str) -> usize {
    let Ok(bytes) = STANDARD.decode(table) else {
        return UNKNOWN;
    };
    let trie = bytes.first_chunk().map_or(0, |size| u32::from_le_bytes(*size) as usize);
    let strings = bytes.get(trie.saturating_add(4)..).unwrap_or_default();
    let longest = strings.split(|byte| *byte == 0).map(<[u8]>::len).max();
    longest.unwrap_or(0).max(1)
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    #[test]
    fn each_step_of_a_sequence_multiplies() {
        let replace =
            |length: usize| json!({"type": "Replace", "pattern": {"String": "a"}, "content": "b".repeat(length)});
        let sequence = json!({"type": "Sequence", "normalizers": [replace(9), {"type": "Strip"}, replace(4)]});
        assert_eq!(growth_of(&sequence), 10 * 5);
        assert_eq!(growth_of(&Value::Null), 1);
    }

    #[test]
    fn a_compiled_table_grows_by_its_longest_string() {
        let table = [&2u32.to_le_bytes()[..], b"xx", b"ab\0abcd\0"].concat();
        let table = json!({"type": "Precompiled", "precompiled_charsmap": STANDARD.encode(table)});
        assert_eq!(growth_of(&table), 4);
    }
}
