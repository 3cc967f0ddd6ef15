//! The exit of a worker.

use crate::replicas::workers::FailedStart;

/// The exit of a worker: its cause and its last words.
#[derive(Clone, Debug)]
pub struct Exit {
    /// The cause of the end, in one word; nothing where the service ended it.
    pub cause: Option<&'static str>,
    /// The same for people.
    pub why: String,
    /// Whether it produced a token.
    pub produced: bool,
    /// The last that it said.
    pub last_words: Vec<String>,
}

impl Exit {
    /// Returns the end of a worker that the service ended.
    pub fn ended_by_service(produced: bool) -> Exit {
        Exit {
            cause: None,
            why: "the service ended it".into(),
            produced,
            last_words: Vec::new(),
        }
    }
}

impl From<FailedStart> for Exit {
    fn from(failed_start: FailedStart) -> Exit {
        Exit {
            cause: Some("not-started"),
            why: failed_start.why,
            produced: false,
            last_words: failed_start.last_words,
        }
    }
}
