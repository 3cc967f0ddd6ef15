//! Fields that a request type does not have: which are misspelt, which would change the answer, which can be ignored.

use serde::de::{DeserializeOwned, Deserializer, IgnoredAny, MapAccess, Visitor};
use std::fmt;

/// Most unknown fields that are told apart; the others are ignored without being named.
const MOST_NAMED: usize = 16;
/// Longest name that is told in full.
const LONGEST_NAME: usize = 64;

/// Fields of the open wire, on these calls or its others, that would change the answer and are not supported. Requests with one of
/// them are refused.
pub const ANSWER_CHANGING: [&str; 12] = [
    "audio",
    "best_of",
    "echo",
    "function_call",
    "functions",
    "input",
    "instructions",
    "max_output_tokens",
    "messages",
    "prompt",
    "suffix",
    "web_search_options",
];

/// A field that cannot be accepted.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct WrongField {
    /// Its name as sent.
    pub name: String,
    /// What is wrong, and what works.
    pub reason: String,
}

/// Returns the names of a type's fields.
pub fn fields_of<T: DeserializeOwned>() -> &'static [&'static str] {
    struct Asking;
    /// Ends the question; it carries what was learnt.
    #[derive(Debug)]
    struct Fields(&'static [&'static str]);

    impl fmt::Display for Fields {
        fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
            write!(f, "{:?}", self.0)
        }
    }
    impl std::error::Error for Fields {}
    impl serde::de::Error for Fields {
        fn custom<M: fmt::Display>(_: M) -> Fields {
            Fields(&[])
        }
    }
    impl<'de> Deserializer<'de> for Asking {
        type Error = Fields;

        fn deserialize_any<V: Visitor<'de>>(self, _: V) -> Result<V::Value, Fields> {
            Err(Fields(&[]))
        }

        fn deserialize_struct<V: Visitor<'de>>(
            self,
            _: &'static str,
            fields: &'static [&'static str],
            _: V,
        ) -> Result<V::Value, Fields> {
            Err(Fields(fields))
        }

        serde::forward_to_deserialize_any! {
            bool i8 i16 i32 i64 u8 u16 u32 u64 f32 f64 char str string bytes byte_buf option unit unit_struct
            newtype_struct seq tuple tuple_struct map enum identifier ignored_any
        }
    }
    T::deserialize(Asking).err().map_or(&[], |fields| fields.0)
}

/// Returns the names in a body's object that are none of `known`, without keeping any value.
pub fn unknown_in(body: &[u8], known: &[&str]) -> Vec<String> {
    struct Names<'a>(&'a [&'a str]);
    impl<'de> Visitor<'de> for Names<'_> {
        type Value = Vec<String>;

        fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
            f.write_str("an object")
        }

        fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> Result<Vec<String>, A::Error> {
            let mut unknown = Vec::new();
            while let Some(name) = map.next_key::<String>()? {
                map.next_value::<IgnoredAny>()?;
                note(&mut unknown, name, self.0);
            }
            Ok(unknown)
        }
    }
    serde_json::Deserializer::from_slice(body)
        .deserialize_map(Names(known))
        .unwrap_or_default()
}

/// Adds a name, unless it is known, there already, or one too many.
pub(crate) fn note(unknown: &mut Vec<String>, name: String, known: &[&str]) {
    if unknown.len() < MOST_NAMED && !known.contains(&name.as_str()) && !unknown.contains(&name) {
        unknown.push(name);
    }
}

/// Sorts unknown names: returns those that can be ignored.
///
/// # Errors
/// The first name that is close to a known one, or that would change the answer.
pub fn ignorable(unknown: &[String], known: &[&str]) -> Result<Vec<String>, WrongField> {
    for name in unknown {
        let wrong = |reason: String| WrongField {
            name: shown(name),
            reason,
        };
        if ANSWER_CHANGING.contains(&name.as_str()) {
            let remedy = "would change the answer and is not supported by this call; leave it out (GET /openapi.json lists its fields)";
            return Err(wrong(remedy.into()));
        }
        if let Some(meant) = known.iter().find(|known| is_near(name, known)) {
            return Err(wrong(format!("is not a field; did you mean `{meant}`?")));
        }
    }
    Ok(unknown.iter().map(|name| shown(name)).collect())
}

/// Whether a name looks like a misspelling of a known one.
fn is_near(name: &str, known: &str) -> bool {
    if name.len() > known.len() + 2 {
        return false;
    }
    let plain = name.to_lowercase().replace('-', "_");
    let allowed = if known.len() < 5 { 1 } else { 2 };
    known.len() > 2 && strsim::osa_distance(&plain, known) <= allowed
}

/// Returns a name as it can stand in a header or message.
fn shown(name: &str) -> String {
    let plain = |c: char| {
        if c.is_ascii_alphanumeric() || "_-.".contains(c) {
            c
        } else {
            '?'
        }
    };
    name.chars().take(LONGEST_NAME).map(plain).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::chat::ChatRequest;
    use crate::completion::CompletionRequest;
    use proptest::prelude::*;

    fn sorted(names: &[&str]) -> Result<Vec<String>, WrongField> {
        let names: Vec<String> = names.iter().map(|name| (*name).to_owned()).collect();
        ignorable(&names, fields_of::<ChatRequest>())
    }

    #[test]
    fn what_unmodified_clients_send_is_ignored_by_name() {
        let sent = [
            "service_tier",
            "reasoning_effort",
            "verbosity",
            "prompt_cache_key",
            "safety_identifier",
            "prediction",
            "x_vendor_hint",
        ];
        assert_eq!(sorted(&sent).unwrap(), sent);
        assert_eq!(sorted(&["a\u{1b}[2J"]).unwrap(), ["a??2J"]);
    }

    #[test]
    fn a_misspelt_field_is_told_the_right_spelling() {
        for (wrong, right) in [
            ("temprature", "temperature"),
            ("maxTokens", "max_tokens"),
            ("max-tokens", "max_tokens"),
            ("top-p", "top_p"),
            ("streams", "stream"),
            ("message", "messages"),
        ] {
            let error = sorted(&[wrong]).unwrap_err();
            assert!(error.reason.contains(&format!("`{right}`")), "{error:?}");
        }
    }

    #[test]
    fn what_would_change_the_answer_is_refused() {
        for name in ANSWER_CHANGING {
            if name != "messages" {
                assert!(sorted(&[name]).is_err(), "{name}");
            }
        }
        assert!(fields_of::<CompletionRequest>().contains(&"best_of"));
    }

    #[test]
    fn names_are_found_in_a_body_without_its_values() {
        let body = br#"{"model": "m", "deep": [[[{}]]], "deep": 1, "n": 2, "other": "x"}"#;
        assert_eq!(unknown_in(body, &["model", "n"]), ["deep", "other"]);
        assert!(unknown_in(b"[1]", &[]).is_empty());
    }

    proptest! {
        #[test]
        fn any_name_is_sorted_and_shown_plainly(name in any::<String>()) {
            for shown in sorted(&[&name]).unwrap_or_default() {
                prop_assert!(shown.len() <= LONGEST_NAME && shown.bytes().all(|byte| byte.is_ascii_graphic()));
            }
        }
    }
}
