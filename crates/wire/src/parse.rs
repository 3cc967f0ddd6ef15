//! JSON bodies, with errors that say where and what was expected.

use serde::de::DeserializeOwned;
use std::fmt;

/// Why a body is not what was expected.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct BodyError {
    /// The path of the field, such as `messages[0].content`; empty for the body as a whole.
    pub path: String,
    /// Line of the offending character, from 1 on.
    pub line: usize,
    /// Its column, from 1 on.
    pub column: usize,
    /// What is wrong, in words.
    pub reason: String,
}

impl fmt::Display for BodyError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let BodyError {
            path,
            line,
            column,
            reason,
        } = self;
        match path.as_str() {
            "" => write!(
                f,
                "the body is not the expected JSON: {reason} (line {line}, column {column})"
            ),
            path => write!(f, "`{path}`: {reason} (line {line}, column {column})"),
        }
    }
}

/// Parses a body.
///
/// # Errors
/// Where the body stops being what was expected.
pub fn parse_body<T: DeserializeOwned>(body: &[u8]) -> Result<T, BodyError> {
    let mut deserializer = serde_json::Deserializer::from_slice(body);
    let value = serde_path_to_error::deserialize(&mut deserializer).map_err(|error| {
        let path = error.path().to_string();
        let inner = error.into_inner();
        // The path writes `.` for the whole and `?` for a part that has no name yet.
        body_error(path.trim_end_matches('?').trim_end_matches('.').to_owned(), &inner)
    })?;
    deserializer.end().map_err(|error| body_error(String::new(), &error))?;
    Ok(value)
}

fn body_error(path: String, error: &serde_json::Error) -> BodyError {
    let text = error.to_string();
    let reason = text
        .rsplit_once(" at line ")
        .map_or(text.as_str(), |(reason, _)| reason);
    BodyError {
        path,
        line: error.line().max(1),
        column: error.column().max(1),
        reason: reason.to_owned(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::chat::ChatRequest;
    use proptest::prelude::*;

    fn error(body: &str) -> BodyError {
        parse_body::<ChatRequest>(body.as_bytes()).err().unwrap()
    }

    #[test]
    fn a_stray_sign_is_found_where_it_stands() {
        let found = error("{\n  \"model\": \"pierdesk\",,\n}");
        assert_eq!((found.line, found.column), (2, 23));
        let found = error(r#"{"model": "m", "messages": [{"role": "user", "content": 7}]}"#);
        assert_eq!(found.path, "messages[0].content");
        assert!(
            found.reason.contains("a string or a list of text parts"),
            "{}",
            found.reason
        );
    }

    #[test]
    fn what_follows_the_object_is_an_error_too() {
        assert!(error(r#"{"model": "m", "messages": []} x"#).reason.contains("trailing"));
        assert_eq!(error("").line, 1);
    }

    proptest! {
        #[test]
        fn no_body_makes_it_panic(body in prop::collection::vec(any::<u8>(), 0..80)) {
            let _ = parse_body::<ChatRequest>(&body);
        }
    }
}
