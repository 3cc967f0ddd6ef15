//! The end of a worker's life.

use crate::workers::Stillborn;

/// How a worker's life ended.
#[derive(Clone, Debug)]
pub struct Over {
    /// The cause of the end, in one word; nothing where the service ended it.
    pub cause: Option<&'static str>,
    /// The same for people.
    pub why: String,
    /// Whether it produced a token.
    pub produced: bool,
    /// The last that it said.
    pub last_words: Vec<String>,
}

impl Over {
    /// Returns the end of a worker that the service ended.
    pub fn told(produced: bool) -> Over {
        Over {
            cause: None,
            why: "the service ended it".into(),
            produced,
            last_words: Vec::new(),
        }
    }
}

impl From<Stillborn> for Over {
    fn from(stillborn: Stillborn) -> Over {
        Over {
            cause: Some("not-started"),
            why: stillborn.why,
            produced: false,
            last_words: stillborn.last_words,
        }
    }
}
