//! Stop strings.

/// Watches text for stop strings and holds back what may become one.
pub struct StopMatcher {
    stops: Vec<String>,
    /// Text that is a beginning of a stop string.
    held: String,
}

/// What a [`StopMatcher`] says about new text.
#[derive(Debug, PartialEq, Eq)]
pub enum Verdict {
    /// This much may be shown.
    Show(String),
    /// A stop string appeared: this much comes before it, and nothing after it.
    Stop {
        /// The text before the stop string.
        before: String,
        /// Which one it was.
        stop: usize,
    },
}

impl StopMatcher {
    /// Returns a matcher for the given strings; empty ones never match.
    pub fn new(stops: Vec<String>) -> StopMatcher {
        StopMatcher {
            stops,
            held: String::new(),
        }
    }

    /// Adds text.
    pub fn push(&mut self, text: &str) -> Verdict {
        self.held.push_str(text);
        let found = self
            .stops
            .iter()
            .enumerate()
            .filter(|(_, stop)| !stop.is_empty())
            .filter_map(|(index, stop)| self.held.find(stop.as_str()).map(|at| (at, index)))
            .min();
        if let Some((at, stop)) = found {
            self.held.truncate(at);
            return Verdict::Stop {
                before: std::mem::take(&mut self.held),
                stop,
            };
        }
        let keep = self
            .stops
            .iter()
            .map(|stop| beginning_at_end(&self.held, stop))
            .max()
            .unwrap_or(0);
        let rest = self.held.split_off(self.held.len() - keep);
        Verdict::Show(std::mem::replace(&mut self.held, rest))
    }

    /// Returns what was held back, when no more text comes.
    pub fn finish(&mut self) -> String {
        std::mem::take(&mut self.held)
    }
}

/// Returns the length of the longest beginning of `stop`, short of the whole, that `text` ends with.
fn beginning_at_end(text: &str, stop: &str) -> usize {
    (1..stop.len().min(text.len() + 1))
        .rev()
        .find(|length| stop.is_char_boundary(*length) && text.ends_with(&stop[..*length]))
        .unwrap_or(0)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn a_stop_string_across_pieces_never_leaks() {
        let mut matcher = StopMatcher::new(vec!["END".into(), "é!".into()]);
        assert_eq!(matcher.push("go E"), Verdict::Show("go ".into()));
        assert_eq!(matcher.push("N"), Verdict::Show(String::new()));
        assert_eq!(matcher.push("Ox"), Verdict::Show("ENOx".into()));
        assert_eq!(matcher.push("caf\u{e9}"), Verdict::Show("caf".into()));
        assert_eq!(
            matcher.push("!?"),
            Verdict::Stop {
                before: String::new(),
                stop: 1
            }
        );
    }

    proptest! {
        #[test]
        fn however_the_text_is_cut_the_outcome_is_that_of_the_whole(
            text in "[ab]{0,30}", stops in prop::collection::vec("[ab]{1,4}", 0..3), cuts in prop::collection::vec(0usize..30, 0..8),
        ) {
            let wanted = stops.iter().filter_map(|stop| text.find(stop.as_str())).min();
            let mut cuts: Vec<usize> = cuts.into_iter().map(|cut| cut.min(text.len())).collect();
            cuts.extend([0, text.len()]);
            cuts.sort();
            let mut matcher = StopMatcher::new(stops);
            let mut shown = String::new();
            let mut stopped = false;
            for pair in cuts.windows(2) {
                match matcher.push(&text[pair[0]..pair[1]]) {
                    Verdict::Show(text) => shown.push_str(&text),
                    Verdict::Stop { before, .. } => {
                        shown.push_str(&before);
                        stopped = true;
                        break;
                    }
                }
            }
            if !stopped {
                shown.push_str(&matcher.finish());
            }
            // A stop that ends earlier is seen first, so text is never shown beyond the earliest start of any.
            match wanted {
                None => prop_assert_eq!(shown, text),
                Some(_) => prop_assert!(stopped && text.starts_with(&shown)),
            }
        }
    }
}
