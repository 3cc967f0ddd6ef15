//! How long steps take, learnt from those that were, and how much of a prompt fits into one beside running streams.
//!
//! Long prompts are cut so that streams keep their gaps, as Agrawal et al. (2024) do for batches of prefill and decode; how long the
//! parts may be is learnt here instead of set.

/// How much longer a step with a part of a prompt takes than one without, and how much at most for the sake of the prompt.
const STRETCH: f64 = 2.3;
const MOST_STRETCH: f64 = 2.7;
/// How much longer a prompt may take beside streams than alone.
const MOST_DELAY: f64 = 1.9;
/// How many times longer parts of prompts are at most when more of them wait.
const MOST_YIELD: usize = 4;
/// Tokens of a prompt that a step takes in any case.
const LEAST: usize = 16;
/// Tokens of a prompt that a step takes while nothing is known.
const UNKNOWN: usize = 64;
/// Tokens of a prompt from which a step tells how fast prompts are when they are alone.
const LONG: usize = 128;

/// Learnt times, in seconds.
#[derive(Default)]
pub(super) struct Pace {
    /// Of steps that decode only, by their sequences.
    decode: Line,
    /// Of what prompts add to a step, by their tokens.
    prefill: Line,
    /// Of steps with streams and a prompt, by the prompt's tokens, while no step with streams alone was seen.
    mixed: Line,
    /// A token of a long prompt when nothing else is computed.
    alone: Option<f64>,
}

impl Pace {
    /// Takes note of a step.
    pub fn learn(&mut self, decoding: usize, prefill: usize, took: f64) {
        if prefill == 0 {
            return self.decode.learn(decoding as f64, took);
        }
        if decoding == 0 && prefill >= LONG {
            let each = took / prefill as f64;
            self.alone = Some(self.alone.map_or(each, |alone| 0.7 * alone + 0.3 * each));
        }
        let streams = if decoding == 0 {
            Some(0.0)
        } else {
            self.decode.at(decoding as f64)
        };
        match streams {
            Some(streams) => self.prefill.learn(prefill as f64, (took - streams).max(0.0)),
            // A start with streams and prompts in every step: where the line begins is what the streams take.
            None => self.mixed.learn(prefill as f64, took),
        }
    }

    /// Returns the time of a step with so many streams, and what prompts add to it: a part of that for each token. A token never
    /// costs nothing, whatever the noise of a few steps says.
    fn times(&self, decoding: usize) -> Option<(f64, f64, f64)> {
        let costs = |line: &Line| {
            let (fixed, each) = line
                .fit()
                .filter(|(_, each)| *each > 0.0)
                .or_else(|| line.through_origin())?;
            (each > 0.0).then_some((fixed, each))
        };
        match self.decode.at(decoding as f64) {
            Some(streams) => {
                let alone = self.alone.map(|alone| (0.0, alone));
                let (fixed, each) = costs(&self.prefill).or(alone)?;
                Some((streams, fixed, each))
            }
            None => self
                .mixed
                .fit()
                .filter(|(_, each)| *each > 0.0)
                .map(|(streams, each)| (streams, 0.0, each)),
        }
    }

    /// Returns how many tokens of prompts a step may have beside so many sequences that decode. The more prompts wait, the more streams
    /// yield to them: long steps make more of the device.
    pub fn prefill_room(&self, decoding: usize, waiting: usize) -> usize {
        if decoding == 0 {
            return usize::MAX;
        }
        let Some((streams, fixed, each)) = self.times(decoding) else {
            return UNKNOWN;
        };
        let stretched = |stretch: f64| ((stretch - 1.0) * streams - fixed) / each;
        // A part of p tokens takes fixed + each · p, and streams hold it up once for each part.
        let spare = self.alone.map_or(0.0, |alone| MOST_DELAY * alone - each);
        let for_prompt = if spare > 0.0 { (streams + fixed) / spare } else { 0.0 };
        let tokens = for_prompt.max(stretched(STRETCH)).min(stretched(MOST_STRETCH));
        let tokens = tokens.clamp(0.0, 1e9) as usize;
        (tokens / LEAST * LEAST).max(LEAST) * (1 + waiting).min(MOST_YIELD)
    }
}

/// A straight line through points, of which old ones count less ("Recursive least squares with exponential forgetting").
#[derive(Default)]
struct Line {
    weight: f64,
    x: f64,
    y: f64,
    xx: f64,
    xy: f64,
}

impl Line {
    fn learn(&mut self, x: f64, y: f64) {
        const KEEP: f64 = 0.97;
        let sums = [&mut self.weight, &mut self.x, &mut self.y, &mut self.xx, &mut self.xy];
        for (sum, new) in sums.into_iter().zip([1.0, x, y, x * x, x * y]) {
            *sum = KEEP * *sum + new;
        }
    }

    /// Returns the line from the origin to the middle of all points.
    fn through_origin(&self) -> Option<(f64, f64)> {
        (self.weight > 0.0).then(|| (0.0, self.y / self.x.max(self.weight)))
    }

    /// Returns where it begins and how steep it is, neither below zero.
    fn fit(&self) -> Option<(f64, f64)> {
        if self.weight == 0.0 {
            return None;
        }
        let (x, y) = (self.x / self.weight, self.y / self.weight);
        let variance = self.xx / self.weight - x * x;
        // Points of one place tell no slope: then time grows with the place.
        let through_origin = (0.0, y / x.max(1.0));
        if variance < 1e-6 * x * x {
            return Some(through_origin);
        }
        let steep = (self.xy / self.weight - x * y) / variance;
        match (steep, y - steep * x) {
            (steep, _) if steep < 0.0 => Some((y, 0.0)),
            (_, begin) if begin < 0.0 => Some(through_origin),
            (steep, begin) => Some((begin, steep)),
        }
    }

    fn at(&self, x: f64) -> Option<f64> {
        self.fit().map(|(begin, steep)| begin + steep * x)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A device: so many seconds for a step, for a sequence that decodes, and for a prompt's token.
    fn learnt(step: f64, row: f64, token: f64) -> Pace {
        let mut pace = Pace::default();
        for round in 0..200 {
            let decoding = 1 + round % 20;
            pace.learn(0, 500, step + 500.0 * token);
            pace.learn(decoding, 0, step + decoding as f64 * row);
            let prefill = 16 * (1 + round % 8);
            pace.learn(decoding, prefill, step + decoding as f64 * row + prefill as f64 * token);
        }
        pace
    }

    #[test]
    fn a_prompt_beside_streams_stretches_their_steps_as_much_as_it_may() {
        // 16 streams take 20 ms, a token of a prompt takes 1 ms: 32 of them make 52 ms of it.
        let pace = learnt(0.004, 0.001, 0.001);
        let room = pace.prefill_room(16, 0);
        assert!((16..=32).contains(&room), "{room}");
        assert_eq!(pace.prefill_room(0, 0), usize::MAX);
        assert_eq!(pace.prefill_room(16, 1), 2 * room);
        assert_eq!(pace.prefill_room(16, 100), MOST_YIELD * room);
    }

    #[test]
    fn a_prompt_is_not_held_up_for_long_where_streams_take_little_time() {
        // One stream takes 2 ms and a token 1 ms. 16 tokens with 2 ms for the stream take 18 ms, alone they would take 16.
        let pace = learnt(0.001, 0.001, 0.001);
        let room = pace.prefill_room(1, 0);
        let delay = (0.002 + room as f64 * 0.001) / (room as f64 * 0.001);
        assert!(
            delay <= 2.0,
            "{room} tokens at once take {delay} times as long as alone"
        );
    }

    #[test]
    fn a_token_never_costs_nothing() {
        let mut pace = Pace::default();
        for round in 0..100 {
            pace.learn(16, 0, 0.020);
            // Longer parts happened to be faster.
            let (tokens, took) = if round % 2 == 0 { (16, 0.060) } else { (64, 0.050) };
            pace.learn(16, tokens, took);
        }
        let room = pace.prefill_room(16, 0);
        assert!(room <= 64, "{room}");
    }

    #[test]
    fn a_start_with_a_prompt_in_every_step_teaches_the_pace_as_well() {
        let mut pace = Pace::default();
        for round in 0..100 {
            let prefill = 16 * (1 + round % 8);
            pace.learn(16, prefill, 0.020 + prefill as f64 * 0.001);
        }
        let room = pace.prefill_room(16, 0);
        assert!((16..=32).contains(&room), "{room}");
    }

    #[test]
    fn while_nothing_is_known_parts_are_small() {
        assert_eq!(Pace::default().prefill_room(3, 0), UNKNOWN);
    }

    #[test]
    fn what_changes_is_learnt_anew() {
        let mut pace = learnt(0.004, 0.001, 0.001);
        let before = pace.prefill_room(16, 0);
        for _ in 0..200 {
            pace.learn(16, 0, 0.2);
        }
        assert!(pace.prefill_room(16, 0) > 4 * before);
    }
}
