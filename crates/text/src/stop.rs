//! Stop strings.
//!
//! All of them are looked for at once, byte by byte, by an automaton whose state is the longest beginning of any that the
//! text ends with ("Efficient String Matching: An Aid to Bibliographic Search", Aho and Corasick, 1975). So a token costs
//! as much as it has bytes, however many and long the stop strings are.

use compact_str::CompactString;
use serde::{Deserialize, Deserializer, Serialize, Serializer};
use std::collections::BTreeMap;
use std::sync::Arc;

/// Stop strings, ready to be looked for. Clones share the automaton.
#[derive(Clone, Debug, Default)]
pub struct StopStrings(Option<Arc<Automaton>>);

#[derive(Debug)]
struct Automaton {
    states: Vec<State>,
    strings: Vec<String>,
}

#[derive(Debug, Default)]
struct State {
    /// States one byte on.
    next: BTreeMap<u8, u32>,
    /// The state of the longest shorter beginning that the text ends with.
    shorter: u32,
    /// Bytes of the beginning.
    depth: u32,
    /// Bytes and number of the longest stop string that ends here.
    stop: Option<(u32, u32)>,
}

impl StopStrings {
    /// Returns the strings, ready to be looked for; empty ones never appear.
    pub fn new<T: AsRef<str>>(stops: &[T]) -> StopStrings {
        if stops.iter().all(|stop| stop.as_ref().is_empty()) {
            return StopStrings(None);
        }
        let mut states = vec![State::default()];
        for (number, stop) in stops.iter().enumerate() {
            add(&mut states, stop.as_ref().as_bytes(), number as u32);
        }
        link(&mut states);
        let strings = stops.iter().map(|stop| stop.as_ref().to_owned()).collect();
        StopStrings(Some(Arc::new(Automaton { states, strings })))
    }

    /// Returns the strings.
    pub fn strings(&self) -> &[String] {
        self.0.as_ref().map_or(&[], |automaton| &automaton.strings)
    }
}

/// The same strings in the same order.
impl PartialEq for StopStrings {
    fn eq(&self, other: &StopStrings) -> bool {
        self.strings() == other.strings()
    }
}

impl Serialize for StopStrings {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        self.strings().serialize(serializer)
    }
}

impl<'de> Deserialize<'de> for StopStrings {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<StopStrings, D::Error> {
        Ok(StopStrings::new(&Vec::<String>::deserialize(deserializer)?))
    }
}

/// Adds a string to the tree of states.
fn add(states: &mut Vec<State>, stop: &[u8], number: u32) {
    let mut at = 0;
    for byte in stop {
        let fresh = states.len() as u32;
        let next = *states[at].next.entry(*byte).or_insert(fresh);
        if next == fresh {
            let depth = states[at].depth + 1;
            states.push(State {
                depth,
                ..State::default()
            });
        }
        at = next as usize;
    }
    if at > 0 {
        let length = states[at].depth;
        states[at].stop.get_or_insert((length, number));
    }
}

/// Finds for each state the next shorter one, the shortest first.
fn link(states: &mut [State]) {
    let mut order: Vec<u32> = (0..states.len() as u32).collect();
    order.sort_by_key(|state| states[*state as usize].depth);
    for parent in order {
        for (byte, child) in states[parent as usize].next.clone() {
            let shorter = match parent {
                0 => 0,
                _ => step(states, states[parent as usize].shorter, byte),
            };
            let inherited = states[shorter as usize].stop;
            let child = &mut states[child as usize];
            child.shorter = shorter;
            child.stop = child.stop.or(inherited);
        }
    }
}

/// Returns the state after one more byte.
fn step(states: &[State], mut at: u32, byte: u8) -> u32 {
    loop {
        let state = &states[at as usize];
        if let Some(next) = state.next.get(&byte) {
            return *next;
        }
        if at == 0 {
            return 0;
        }
        at = state.shorter;
    }
}

/// Watches text for stop strings and holds back what may become one.
pub struct StopMatcher {
    stops: StopStrings,
    /// Text that is a beginning of a stop string.
    held: CompactString,
    state: u32,
}

/// What a [`StopMatcher`] says about new text.
#[derive(Debug, PartialEq, Eq)]
pub enum Verdict {
    /// This much may be shown.
    Show(CompactString),
    /// A stop string appeared: this much comes before it, and nothing after it. Of several, the one that ended first counts,
    /// and of those the longest.
    Stop {
        /// The text before the stop string.
        before: CompactString,
        /// Which one it was.
        stop: usize,
    },
}

impl StopMatcher {
    /// Returns a matcher for the given strings.
    pub fn new(stops: StopStrings) -> StopMatcher {
        StopMatcher {
            stops,
            held: CompactString::default(),
            state: 0,
        }
    }

    /// Adds text.
    pub fn push(&mut self, text: &str) -> Verdict {
        let Some(automaton) = self.stops.0.as_deref() else {
            return Verdict::Show(text.into());
        };
        let before = self.held.len();
        self.held.push_str(text);
        for end in before..self.held.len() {
            self.state = step(&automaton.states, self.state, self.held.as_bytes()[end]);
            if let Some((length, stop)) = automaton.states[self.state as usize].stop {
                self.held.truncate(end + 1 - length as usize);
                return Verdict::Stop {
                    before: std::mem::take(&mut self.held),
                    stop: stop as usize,
                };
            }
        }
        let keep = automaton.states[self.state as usize].depth as usize;
        let rest = self.held.split_off(self.held.len() - keep);
        Verdict::Show(std::mem::replace(&mut self.held, rest))
    }

    /// Returns what was held back, when no more text comes.
    pub fn finish(&mut self) -> CompactString {
        std::mem::take(&mut self.held)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn matcher(stops: &[&str]) -> StopMatcher {
        StopMatcher::new(StopStrings::new(stops))
    }

    #[test]
    fn a_stop_string_across_pieces_never_leaks() {
        let mut matcher = matcher(&["END", "é!"]);
        assert_eq!(matcher.push("go E"), Verdict::Show("go ".into()));
        assert_eq!(matcher.push("N"), Verdict::Show("".into()));
        assert_eq!(matcher.push("Ox"), Verdict::Show("ENOx".into()));
        assert_eq!(matcher.push("caf\u{e9}"), Verdict::Show("caf".into()));
        assert_eq!(
            matcher.push("!?"),
            Verdict::Stop {
                before: "".into(),
                stop: 1
            }
        );
    }

    #[test]
    fn empty_stop_strings_never_appear() {
        assert_eq!(matcher(&["", ""]).push("text"), Verdict::Show("text".into()));
    }

    /// What a plain search says: the first end of any stop string, and of those that end there the longest.
    fn plainly(text: &str, stops: &[String]) -> Option<String> {
        (1..=text.len()).find_map(|end| {
            let ends_here = stops
                .iter()
                .filter(|stop| !stop.is_empty() && text[..end].ends_with(stop.as_str()));
            let longest = ends_here.map(String::len).max()?;
            Some(text[..end - longest].to_owned())
        })
    }

    proptest! {
        #[test]
        fn however_the_text_is_cut_the_outcome_is_that_of_a_plain_search(
            text in "[abc]{0,30}", stops in prop::collection::vec("[abc]{0,4}", 0..4), cuts in prop::collection::vec(0usize..30, 0..8),
        ) {
            let wanted = plainly(&text, &stops);
            let mut cuts: Vec<usize> = cuts.into_iter().map(|cut| cut.min(text.len())).collect();
            cuts.extend([0, text.len()]);
            cuts.sort();
            let mut matcher = StopMatcher::new(StopStrings::new(&stops));
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
            prop_assert_eq!(stopped, wanted.is_some());
            prop_assert_eq!(shown, wanted.unwrap_or(text));
        }
    }
}
