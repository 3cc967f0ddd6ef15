//! How long steps take, learnt from those that were, and how much of a prompt fits into one beside running streams.
//!
//! Long prompts are cut so that streams keep their gaps, as Agrawal et al. (2024) do for batches of prefill and decode. The lengths of
//! the parts follow from learnt times: a step costs time for each row, each token of a prompt, and each position that attention reads.

/// How much longer a step with a part of a prompt takes than one without, and how much at most for the sake of the prompt.
const STRETCH: f64 = 2.3;
const MOST_STRETCH: f64 = 2.7;
/// How much longer a prompt may take beside streams than alone.
const MOST_DELAY: f64 = 1.9;
/// How many times longer parts of prompts are at most when more of them wait.
const MOST_YIELD: usize = 4;
/// Tokens of a prompt that a step takes in any case.
const LEAST: usize = 16;
/// Tokens of a prompt that a step takes before any time is known.
const UNKNOWN: usize = 64;
/// A step with one prompt alone teaches its speed from so many tokens on.
const LONG: usize = 128;

/// The work of a step.
#[derive(Clone, Copy, Default)]
pub(super) struct StepWork {
    /// Rows that decode.
    pub decoding: usize,
    /// Positions that attention reads for these rows together.
    pub context: usize,
    /// Tokens of prompts.
    pub prefill: usize,
    /// Positions that attention reads for these tokens together.
    pub prefill_context: usize,
}

impl StepWork {
    /// Adds a row that decodes a token at a position.
    pub fn add_decoding(&mut self, position: usize) {
        self.decoding += 1;
        self.context += position;
    }

    /// Adds a part of a prompt.
    pub fn add_prefill(&mut self, start: usize, tokens: usize) {
        self.prefill += tokens;
        self.prefill_context += tokens * (start + tokens / 2);
    }
}

/// Learnt times, in seconds.
#[derive(Default)]
pub(super) struct Pace {
    /// A position that attention reads for a decoding row.
    position: Share,
    /// A position that attention reads for a token of a prompt.
    prefill_position: Share,
    /// Steps that decode only, by their rows, without the time for context.
    decode: Line,
    /// The time that prompts add to a step, by their tokens, without the time for context.
    prefill: Line,
    /// Steps with streams and a prompt, by the prompt's tokens, until a step with streams alone was seen.
    mixed: Line,
    /// A token of a long prompt when a step computes only that prompt, without the time for context.
    alone: Option<f64>,
}

impl Pace {
    /// Learns from a step.
    pub fn learn(&mut self, work: StepWork, took: f64) {
        let (rows, context) = (work.decoding as f64, work.context as f64);
        let (tokens, prefill_context) = (work.prefill as f64, work.prefill_context as f64);
        if work.prefill == 0 {
            let each = self.position.learn(rows, context, took);
            return self.decode.learn(rows, (took - each * context).max(0.0));
        }
        let streams = if work.decoding == 0 {
            Some(0.0)
        } else {
            let decode = self.decode.at(rows);
            decode.map(|decode| decode + self.position.each * context)
        };
        // At a start with streams and prompts in every step, the line begins at the time of the streams.
        let added = (took - streams.unwrap_or(0.0)).max(0.0);
        let each = self.prefill_position.learn(tokens, prefill_context, added);
        let flat = (added - each * prefill_context).max(0.0);
        match streams {
            Some(_) => self.prefill.learn(tokens, flat),
            None => self.mixed.learn(tokens, flat),
        }
        if work.decoding == 0 && work.prefill >= LONG {
            let token = flat / tokens;
            self.alone = Some(self.alone.map_or(token, |alone| 0.7 * alone + 0.3 * token));
        }
    }

    /// Returns the time of a step with these streams, and the time that prompts add to it: a fixed part and one for each token, both without
    /// context. A token always costs time, also where a few noisy steps
    /// seem to show the contrary.
    fn times(&self, streams: StepWork) -> Option<(f64, f64, f64)> {
        let costs = |line: &Line| {
            let (fixed, each) = line
                .fit()
                .filter(|(_, each)| *each > 0.0)
                .or_else(|| line.through_origin())?;
            (each > 0.0).then_some((fixed, each))
        };
        match self.decode.at(streams.decoding as f64) {
            Some(decode) => {
                let alone = self.alone.map(|alone| (0.0, alone));
                let (fixed, each) = costs(&self.prefill).or(alone)?;
                let decode = decode + self.position.each * streams.context as f64;
                Some((decode, fixed, each))
            }
            None => self
                .mixed
                .fit()
                .filter(|(_, each)| *each > 0.0)
                .map(|(decode, each)| (decode, 0.0, each)),
        }
    }

    /// Returns how many tokens of prompts a step may have beside streams; the first of these tokens is at position `depth` of its prompt.
    /// The more prompts wait, the more streams yield to them: long steps make more of the device.
    pub fn prefill_room(&self, streams: StepWork, depth: usize, waiting: usize) -> usize {
        if streams.decoding == 0 {
            return usize::MAX;
        }
        let Some((decode, fixed, each)) = self.times(streams) else {
            return UNKNOWN;
        };
        let attention = self.prefill_position.each * depth as f64;
        let each = each + attention;
        let stretched = |stretch: f64| ((stretch - 1.0) * decode - fixed) / each;
        // A part of p tokens takes fixed + each · p, and streams hold it up once for each part.
        let spare = self.alone.map_or(0.0, |alone| MOST_DELAY * (alone + attention) - each);
        let for_prompt = if spare > 0.0 { (decode + fixed) / spare } else { 0.0 };
        let tokens = for_prompt.max(stretched(STRETCH)).min(stretched(MOST_STRETCH));
        let tokens = tokens.clamp(0.0, 1e9) as usize;
        (tokens / LEAST * LEAST).max(LEAST) * (1 + waiting).min(MOST_YIELD)
    }
}

/// The seconds that one unit of `z` adds to a time that depends on `x`, too: the slope for `z` of a plane through the points, by least
/// squares with exponential forgetting. It keeps its last value while the points do not tell `z` and `x` apart.
#[derive(Default)]
struct Share {
    points: f64,
    mean: [f64; 3],
    /// Sums of products of deviations: xx, xz, zz, xy, zy.
    sums: [f64; 5],
    each: f64,
}

impl Share {
    /// Learns a point and returns the seconds for one unit of `z`; never below zero, and never more than the whole time.
    fn learn(&mut self, x: f64, z: f64, y: f64) -> f64 {
        /// Context costs the same as long as the model is the same: old points count for long.
        const KEEP: f64 = 0.995;
        self.points = KEEP * self.points + 1.0;
        self.sums = self.sums.map(|sum| KEEP * sum);
        let before = [x - self.mean[0], z - self.mean[1], y - self.mean[2]];
        for (mean, off) in self.mean.iter_mut().zip(before) {
            *mean += off / self.points;
        }
        let [dx, dz, dy] = [x - self.mean[0], z - self.mean[1], y - self.mean[2]];
        let products = [
            before[0] * dx,
            before[0] * dz,
            before[1] * dz,
            before[0] * dy,
            before[1] * dy,
        ];
        for (sum, product) in self.sums.iter_mut().zip(products) {
            *sum += product;
        }
        let [xx, xz, zz, xy, zy] = self.sums;
        // The part of z that x does not explain, and how the time follows it.
        let (own, follows) = match xx > 0.0 {
            true => (zz - xz * xz / xx, zy - xz * xy / xx),
            false => (zz, zy),
        };
        if self.points >= 8.0 && own > 0.01 * zz && zz > 1e-6 * self.mean[1] * self.mean[1] {
            self.each = (follows / own).clamp(0.0, self.mean[2].max(0.0) / self.mean[1].max(1.0));
        }
        self.each
    }
}

/// A straight line through points, by least squares with exponential forgetting.
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

    /// Returns the line's value at 0 and its slope, neither below zero.
    fn fit(&self) -> Option<(f64, f64)> {
        if self.weight == 0.0 {
            return None;
        }
        let (x, y) = (self.x / self.weight, self.y / self.weight);
        let variance = self.xx / self.weight - x * x;
        // Points at one x tell no slope: then y is proportional to x.
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

    /// Streams that look at so many positions each.
    fn streams(decoding: usize, context: usize) -> StepWork {
        StepWork {
            decoding,
            context: decoding * context,
            ..StepWork::default()
        }
    }

    /// Streams beside a part of a prompt.
    fn with_prompt(decoding: usize, context: usize, start: usize, tokens: usize) -> StepWork {
        let mut work = streams(decoding, context);
        work.add_prefill(start, tokens);
        work
    }

    /// A device: so many seconds for a step, for a row that decodes, for a prompt's token, and for a position that attention reads.
    struct Device {
        step: f64,
        row: f64,
        token: f64,
        position: f64,
    }

    impl Device {
        fn time(&self, work: StepWork) -> f64 {
            let positions = work.context + work.prefill_context;
            self.step
                + work.decoding as f64 * self.row
                + work.prefill as f64 * self.token
                + positions as f64 * self.position
        }

        /// Returns what a pace learns from its steps.
        fn learnt(&self) -> Pace {
            let mut pace = Pace::default();
            for round in 0..400 {
                let (decoding, context) = (1 + round % 20, 100 * (round % 7));
                let prefill = 16 * (1 + round % 8);
                for work in [
                    with_prompt(0, 0, 500 * (round % 5), 500),
                    streams(decoding, context),
                    with_prompt(decoding, context, 150 * (round % 11), prefill),
                ] {
                    pace.learn(work, self.time(work));
                }
            }
            pace
        }
    }

    /// A device whose attention takes no time.
    fn learnt(step: f64, row: f64, token: f64) -> Pace {
        let position = 0.0;
        Device {
            step,
            row,
            token,
            position,
        }
        .learnt()
    }

    #[test]
    fn a_prompt_beside_streams_stretches_their_steps_as_much_as_it_may() {
        // 16 streams take 20 ms, a token of a prompt takes 1 ms: 32 of them make 52 ms of it.
        let pace = learnt(0.004, 0.001, 0.001);
        let room = pace.prefill_room(streams(16, 0), 0, 0);
        assert!((16..=32).contains(&room), "{room}");
        assert_eq!(pace.prefill_room(streams(0, 0), 0, 0), usize::MAX);
        assert_eq!(pace.prefill_room(streams(16, 0), 0, 1), 2 * room);
        assert_eq!(pace.prefill_room(streams(16, 0), 0, 100), MOST_YIELD * room);
    }

    #[test]
    fn a_part_deep_in_a_prompt_is_shorter_as_each_of_its_tokens_takes_longer() {
        // At position 0 a token takes 0.1 ms, at position 4,000 it takes 0.5 ms.
        let device = Device {
            step: 0.004,
            row: 0.001,
            token: 1e-4,
            position: 1e-7,
        };
        let pace = device.learnt();
        for (depth, context) in [(0, 0), (4_000, 0), (0, 4_000), (4_000, 4_000)] {
            let streams = streams(16, context);
            let room = pace.prefill_room(streams, depth, 0);
            let mut with_prompt = streams;
            with_prompt.add_prefill(depth, room);
            let stretch = device.time(with_prompt) / device.time(streams);
            assert!(
                (1.9..=MOST_STRETCH + 0.1).contains(&stretch),
                "{room} tokens at {depth} beside {context} stretch a step by {stretch}"
            );
        }
    }

    #[test]
    fn a_short_prompt_after_a_long_one_is_not_taken_for_as_expensive() {
        let device = Device {
            step: 0.004,
            row: 0.001,
            token: 1e-4,
            position: 1e-7,
        };
        let mut pace = device.learnt();
        let before = pace.prefill_room(streams(16, 100), 0, 0);
        for part in 0..200 {
            let work = with_prompt(16, 100, 32 * part, 32);
            pace.learn(work, device.time(work));
        }
        let after = pace.prefill_room(streams(16, 100), 0, 0);
        assert!(before.abs_diff(after) <= before / 4, "{before}, then {after}");
    }

    #[test]
    fn a_prompt_is_not_held_up_for_long_where_streams_take_little_time() {
        // One stream takes 2 ms and a token 1 ms. 16 tokens with 2 ms for the stream take 18 ms, alone they would take 16.
        let pace = learnt(0.001, 0.001, 0.001);
        let room = pace.prefill_room(streams(1, 0), 0, 0);
        let delay = (0.002 + room as f64 * 0.001) / (room as f64 * 0.001);
        assert!(
            delay <= 2.0,
            "{room} tokens at once take {delay} times as long as alone"
        );
    }

    #[test]
    fn a_prompt_that_is_slower_beside_streams_than_alone_gets_the_longest_parts() {
        let mut pace = Pace::default();
        for round in 0..100 {
            pace.learn(with_prompt(0, 0, 0, 500), 500.0 * 1e-4);
            pace.learn(streams(16, 0), 0.020);
            let tokens = 16 * (1 + round % 8);
            pace.learn(with_prompt(16, 0, 0, tokens), 0.020 + tokens as f64 * 1.5e-4);
        }
        // Beside streams a token takes 0.15 ms, alone 0.1 ms: only parts of 500 tokens and more would make up for the streams' 20 ms,
        // and steps may become 2.7 times as long, which is 226 tokens or some more. 2.3 times as long would be 173.
        let room = pace.prefill_room(streams(16, 0), 0, 0);
        assert!((208..=256).contains(&room), "{room}");
    }

    #[test]
    fn a_token_never_costs_nothing() {
        let mut pace = Pace::default();
        for round in 0..100 {
            pace.learn(streams(16, 0), 0.020);
            // Longer parts happened to be faster.
            let (tokens, took) = if round % 2 == 0 { (16, 0.060) } else { (64, 0.050) };
            pace.learn(with_prompt(16, 0, 0, tokens), took);
        }
        let room = pace.prefill_room(streams(16, 0), 0, 0);
        assert!(room <= 64, "{room}");
    }

    #[test]
    fn a_start_with_a_prompt_in_every_step_teaches_the_pace_as_well() {
        let mut pace = Pace::default();
        for round in 0..100 {
            let prefill = 16 * (1 + round % 8);
            pace.learn(with_prompt(16, 0, 0, prefill), 0.020 + prefill as f64 * 0.001);
        }
        let room = pace.prefill_room(streams(16, 0), 0, 0);
        assert!((16..=32).contains(&room), "{room}");
    }

    #[test]
    fn parts_are_small_before_any_time_is_known() {
        assert_eq!(Pace::default().prefill_room(streams(3, 0), 0, 0), UNKNOWN);
    }

    #[test]
    fn a_change_is_learnt_anew() {
        let mut pace = learnt(0.004, 0.001, 0.001);
        let before = pace.prefill_room(streams(16, 0), 0, 0);
        for _ in 0..200 {
            pace.learn(streams(16, 0), 0.2);
        }
        assert!(pace.prefill_room(streams(16, 0), 0, 0) > 4 * before);
    }
}
