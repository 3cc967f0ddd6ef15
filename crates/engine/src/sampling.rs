//! Which token comes next.

mod logprobs;
pub mod random;
mod settings;

pub use logprobs::logprobs_of;
pub use settings::Sampling;

use crate::token::TokenLogprobs;
use random::Random;
use std::cell::Cell;
use std::cmp::Ordering;
use std::sync::Arc;
use vastrelay_kernels::LANES;

/// A token that was there.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Seen {
    /// The token.
    pub id: u32,
    /// How often the output holds it; 0 when only the prompt does.
    pub in_output: u32,
}

/// Counts a token of the output among those that were there.
pub fn count_seen(seen: &mut Arc<Vec<Seen>>, id: u32) {
    let seen = Arc::make_mut(seen);
    match seen.binary_search_by_key(&id, |seen| seen.id) {
        Ok(place) => seen[place].in_output += 1,
        Err(place) => seen.insert(place, Seen { id, in_output: 1 }),
    }
}

/// One token to choose: everything but the logits.
#[derive(Clone, Debug)]
pub struct Choice {
    /// How tokens are chosen.
    pub sampling: Arc<Sampling>,
    /// Which of several completions of one prompt this is.
    pub completion: u32,
    /// Tokens of the output before this one.
    pub position: u64,
    /// Tokens that were there, in the order of their ids; empty when the settings have no penalties.
    pub seen: Arc<Vec<Seen>>,
    /// Tokens that end a completion.
    pub end_ids: Arc<[u32]>,
    /// The position from which a completion may end.
    pub may_end_from: u64,
    /// Alternatives to report with the log-probability; `None` for no log-probabilities.
    pub top: Option<usize>,
}

impl Choice {
    /// Returns the tokens that may not come at this position.
    pub fn banned(&self) -> &[u32] {
        if self.position < self.may_end_from {
            &self.end_ids
        } else {
            &[]
        }
    }
}

/// A chosen token.
#[derive(Clone, Debug, PartialEq)]
pub struct Chosen {
    /// The token.
    pub id: u32,
    /// Its log-probability under the model and the most probable alternatives, when asked for.
    pub logprobs: Option<TokenLogprobs>,
}

/// What drawing needs beside the logits.
#[derive(Default)]
struct Space {
    weights: Vec<f64>,
    ids: Vec<u32>,
}

/// Returns the bytes that choosing tokens of a vocabulary takes on each thread, log-probabilities included.
pub(crate) fn bytes_per_thread(vocabulary: usize) -> usize {
    vocabulary * (size_of::<f64>() + size_of::<u32>() + size_of::<f32>())
}

thread_local! {
    /// The memory stays with the thread.
    static SPACE: Cell<Space> = Cell::default();
}

/// Chooses a token; `logits` are used up as workspace. Returns `None` when one of them is not a number, or none is finite.
///
/// The outcome depends on the logits and the choice alone.
///
/// # Panics
/// When `logits` is empty.
pub fn choose(logits: &mut [f32], choice: &Choice) -> Option<Chosen> {
    if !is_usable(logits) {
        return None;
    }
    let raw = choice.top.is_some().then(|| logits.to_vec());
    adjust(logits, choice);
    let id = if choice.sampling.temperature <= 0.0 {
        greatest(logits)
    } else {
        draw(logits, choice)
    };
    let logprobs = choice.top.zip(raw).map(|(top, raw)| logprobs_of(&raw, id, top));
    Some(Chosen { id, logprobs })
}

/// Whether logits make a distribution: no NaN, no positive infinity, and something finite.
fn is_usable(logits: &[f32]) -> bool {
    let wrong = |logit: &f32| logit.is_nan() | (*logit == f32::INFINITY);
    let is_wrong = logits.iter().fold(false, |found, logit| found | wrong(logit));
    let is_finite = logits.iter().fold(false, |found, logit| found | logit.is_finite());
    is_finite && !is_wrong
}

/// Applies biases, penalties and bans.
fn adjust(logits: &mut [f32], choice: &Choice) {
    let sampling = &choice.sampling;
    for seen in choice.seen.iter() {
        let Some(logit) = logits.get_mut(seen.id as usize) else {
            continue;
        };
        if *logit > 0.0 {
            *logit /= sampling.repetition_penalty;
        } else {
            *logit *= sampling.repetition_penalty;
        }
        if seen.in_output > 0 {
            *logit -= sampling.presence_penalty + sampling.frequency_penalty * seen.in_output as f32;
        }
    }
    for (id, bias) in &sampling.logit_bias {
        if let Some(logit) = logits.get_mut(*id as usize) {
            *logit += bias;
        }
    }
    for id in choice.banned() {
        if let Some(logit) = logits.get_mut(*id as usize) {
            *logit = f32::NEG_INFINITY;
        }
    }
}

/// Draws from what the settings leave over of the distribution.
///
/// What is left over are always the most probable tokens. They are drawn in the order of their ids, so that the same draw means the
/// same token, and only the last of them has to be found: nothing is sorted.
fn draw(logits: &[f32], choice: &Choice) -> u32 {
    let sampling = &choice.sampling;
    let top = f64::from(highest(logits));
    let weight = |logit: &f32| ((f64::from(*logit) - top) / f64::from(sampling.temperature)).exp();
    let mut space = SPACE.take();
    space.weights.clear();
    space.weights.extend(logits.iter().map(weight));
    let last = last_kept(logits, &space.weights, &mut space.ids, sampling);
    let drawn = draw_kept(logits, &space.weights, last, choice);
    SPACE.set(space);
    drawn
}

/// Draws a token that is no less probable than the last, in proportion to the weights.
fn draw_kept(logits: &[f32], weights: &[f64], last: Option<u32>, choice: &Choice) -> u32 {
    let is_kept = |id: u32| last.is_none_or(|last| by_logit(logits, id, last) != Ordering::Greater);
    let kept = || (0..logits.len() as u32).zip(weights).filter(|(id, _)| is_kept(*id));
    let total: f64 = kept().map(|(_, weight)| weight).sum();
    let mut left = Random::new(choice.sampling.seed, choice.completion, choice.position).unit() * total;
    let mut drawn = 0;
    for (id, weight) in kept().filter(|(_, weight)| **weight > 0.0) {
        drawn = id;
        left -= weight;
        if left < 0.0 {
            break;
        }
    }
    // Where rounding ate the last share, it is the last token with any weight.
    drawn
}

/// Returns the least probable token that the settings leave over; `None` when they leave all.
///
/// `ids` is workspace.
fn last_kept(logits: &[f32], weights: &[f64], ids: &mut Vec<u32>, sampling: &Sampling) -> Option<u32> {
    let Sampling {
        top_k, top_p, min_p, ..
    } = *sampling;
    let has_top_k = top_k > 0 && top_k < logits.len();
    if !has_top_k && top_p >= 1.0 && min_p <= 0.0 {
        return None;
    }
    let weight = |id: &u32| weights[*id as usize];
    ids.clear();
    ids.extend((0..logits.len() as u32).filter(|id| weight(id) >= f64::from(min_p)));
    if has_top_k && top_k < ids.len() {
        ids.select_nth_unstable_by(top_k - 1, |a, b| by_logit(logits, *a, *b));
        ids.truncate(top_k);
    }
    let mut count = ids.len();
    if top_p < 1.0 {
        let enough = ids.iter().map(weight).sum::<f64>() * f64::from(top_p);
        count = heaviest(logits, weights, ids, enough);
    }
    ids[..count].iter().copied().max_by(|a, b| by_logit(logits, *a, *b))
}

/// Moves the most probable tokens, as many as weigh enough together, to the front; returns how many they are, at least one.
///
/// Halves the range in which the last of them is, by selection ("Algorithm 65: Find", Hoare, 1961).
fn heaviest(logits: &[f32], weights: &[f64], ids: &mut [u32], enough: f64) -> usize {
    let (mut from, mut to, mut missing) = (0, ids.len(), enough);
    while to - from > 1 {
        let half = (to - from) / 2;
        ids[from..to].select_nth_unstable_by(half, |a, b| by_logit(logits, *a, *b));
        let sum: f64 = ids[from..from + half].iter().map(|id| weights[*id as usize]).sum();
        if sum >= missing {
            to = from + half;
        } else {
            missing -= sum;
            from += half;
        }
    }
    to
}

/// Greater logits first, then smaller ids.
fn by_logit(logits: &[f32], a: u32, b: u32) -> Ordering {
    logits[b as usize].total_cmp(&logits[a as usize]).then(a.cmp(&b))
}

/// Returns the first of the greatest.
fn greatest(logits: &[f32]) -> u32 {
    let highest = highest(logits);
    logits.iter().position(|logit| *logit == highest).unwrap_or(0) as u32
}

/// Returns the greatest of logits that are numbers.
fn highest(logits: &[f32]) -> f32 {
    let (whole, rest) = logits.as_chunks::<LANES>();
    let mut lanes = [f32::NEG_INFINITY; LANES];
    for chunk in whole {
        for (lane, logit) in lanes.iter_mut().zip(chunk) {
            *lane = if *logit > *lane { *logit } else { *lane };
        }
    }
    lanes.iter().chain(rest).copied().fold(f32::NEG_INFINITY, f32::max)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn choice(sampling: Sampling, position: u64) -> Choice {
        Choice {
            sampling: sampling.into(),
            completion: 0,
            position,
            seen: Arc::default(),
            end_ids: Arc::default(),
            may_end_from: 0,
            top: None,
        }
    }

    /// Shares of each of four tokens over many draws.
    fn shares(sampling: Sampling) -> [f64; 4] {
        let mut counts = [0.0; 4];
        for position in 0..40_000 {
            let id = choose(&mut [2.0, 1.0, 0.0, -1.0], &choice(sampling.clone(), position))
                .unwrap()
                .id;
            counts[id as usize] += 1.0 / 40_000.0;
        }
        counts
    }

    fn softmax(logits: &[f64]) -> Vec<f64> {
        let total: f64 = logits.iter().map(|l| l.exp()).sum();
        logits.iter().map(|l| l.exp() / total).collect()
    }

    fn close(shares: &[f64], wanted: &[f64]) {
        assert!(
            shares.iter().zip(wanted).all(|(s, w)| (s - w).abs() < 0.01),
            "{shares:?} for {wanted:?}"
        );
    }

    #[test]
    fn draws_follow_the_distribution_at_each_temperature() {
        close(&shares(Sampling::default()), &softmax(&[2.0, 1.0, 0.0, -1.0]));
        close(
            &shares(Sampling {
                temperature: 0.5,
                ..Sampling::default()
            }),
            &softmax(&[4.0, 2.0, 0.0, -2.0]),
        );
        close(
            &shares(Sampling {
                temperature: 0.0,
                ..Sampling::default()
            }),
            &[1.0, 0.0, 0.0, 0.0],
        );
    }

    #[test]
    fn each_cut_leaves_what_it_says() {
        let two = softmax(&[2.0, 1.0]);
        let two = [two[0], two[1], 0.0, 0.0];
        close(
            &shares(Sampling {
                top_k: 2,
                ..Sampling::default()
            }),
            &two,
        );
        close(
            &shares(Sampling {
                top_p: 0.7,
                ..Sampling::default()
            }),
            &two,
        );
        close(
            &shares(Sampling {
                min_p: 0.3,
                ..Sampling::default()
            }),
            &two,
        );
        close(
            &shares(Sampling {
                top_p: 0.0,
                ..Sampling::default()
            }),
            &[1.0, 0.0, 0.0, 0.0],
        );
    }

    #[test]
    fn penalties_biases_and_bans_move_the_greedy_choice() {
        let greedy = Sampling {
            temperature: 0.0,
            ..Sampling::default()
        };
        let pick = |choice: &Choice| choose(&mut [2.0, 1.9, 0.5, -1.0], choice).unwrap().id;
        let seen = Arc::new(vec![Seen { id: 0, in_output: 2 }]);
        assert_eq!(pick(&choice(greedy.clone(), 0)), 0);
        for sampling in [
            Sampling {
                repetition_penalty: 1.2,
                ..greedy.clone()
            },
            Sampling {
                presence_penalty: 0.2,
                ..greedy.clone()
            },
            Sampling {
                frequency_penalty: 0.1,
                ..greedy.clone()
            },
        ] {
            assert_eq!(
                pick(&Choice {
                    seen: seen.clone(),
                    ..choice(sampling, 0)
                }),
                1
            );
        }
        let only_prompt = Arc::new(vec![Seen { id: 0, in_output: 0 }]);
        let presence = Sampling {
            presence_penalty: 1.0,
            ..greedy.clone()
        };
        assert_eq!(
            pick(&Choice {
                seen: only_prompt,
                ..choice(presence, 0)
            }),
            0
        );
        assert_eq!(
            pick(&choice(
                Sampling {
                    logit_bias: vec![(3, 10.0)],
                    ..greedy.clone()
                },
                0
            )),
            3
        );
        assert_eq!(
            pick(&Choice {
                end_ids: [0, 1].into(),
                may_end_from: 1,
                ..choice(greedy.clone(), 0)
            }),
            2
        );
        assert_eq!(
            pick(&Choice {
                end_ids: [0, 1].into(),
                may_end_from: 1,
                ..choice(greedy, 1)
            }),
            0
        );
    }

    #[test]
    fn logprobs_are_the_models_own_whatever_the_settings() {
        let sampling = Sampling {
            temperature: 0.1,
            logit_bias: vec![(2, 50.0)],
            ..Sampling::default()
        };
        let chosen = choose(
            &mut [2.0, 1.0, 0.0],
            &Choice {
                top: Some(2),
                ..choice(sampling, 0)
            },
        )
        .unwrap();
        let (token, top) = chosen.logprobs.unwrap();
        let wanted = softmax(&[2.0, 1.0, 0.0]);
        assert_eq!(chosen.id, 2);
        assert!((token.logprob as f64 - wanted[2].ln()).abs() < 1e-6);
        assert_eq!(top.iter().map(|t| t.id).collect::<Vec<_>>(), [0, 1]);
        assert!((top[0].logprob as f64 - wanted[0].ln()).abs() < 1e-6);
    }

    /// What is left over, by its definition: sorted, cut, and cut again.
    fn kept_by_sorting(logits: &[f32], weights: &[f64], sampling: &Sampling) -> Vec<u32> {
        let mut ids: Vec<u32> = (0..logits.len() as u32).collect();
        ids.sort_by(|a, b| by_logit(logits, *a, *b));
        if sampling.top_k > 0 {
            ids.truncate(sampling.top_k);
        }
        ids.retain(|id| weights[*id as usize] >= f64::from(sampling.min_p));
        let enough = ids.iter().map(|id| weights[*id as usize]).sum::<f64>() * f64::from(sampling.top_p);
        let mut sum = 0.0;
        let kept = ids.iter().position(|id| {
            sum += weights[*id as usize];
            sum >= enough
        });
        ids.truncate(kept.map_or(ids.len(), |last| last + 1));
        ids.sort_unstable();
        ids
    }

    proptest! {
        #[test]
        fn what_is_left_over_is_found_without_sorting(
            steps in prop::collection::vec(-40i16..40, 1..200), top_k in 0usize..60, min_p in 0u8..4, top_p in 1u8..=10,
        ) {
            let logits: Vec<f32> = steps.iter().map(|step| f32::from(*step) / 8.0).collect();
            // Sums of these are exact in any order.
            let weights: Vec<f64> = steps.iter().map(|step| f64::from(*step / 8 + 6)).collect();
            // The greatest weight is above any share of itself.
            let min_p = weights.iter().copied().fold(0.0, f64::max).min(f64::from(min_p)) as f32;
            let sampling = Sampling { top_k, min_p, top_p: f32::from(top_p) / 16.0, ..Sampling::default() };
            let last = last_kept(&logits, &weights, &mut Vec::new(), &sampling);
            let is_kept = |id: &u32| last.is_none_or(|last| by_logit(&logits, *id, last) != Ordering::Greater);
            let kept: Vec<u32> = (0..logits.len() as u32).filter(is_kept).collect();
            let wanted = kept_by_sorting(&logits, &weights, &sampling);
            prop_assert!(kept == wanted, "{:?} for {:?}", kept, wanted);
        }
    }

    #[test]
    fn nothing_is_chosen_where_there_is_no_distribution() {
        for sampling in [
            Sampling::default(),
            Sampling {
                temperature: 0.0,
                ..Sampling::default()
            },
            Sampling {
                min_p: 0.1,
                top_p: 0.5,
                ..Sampling::default()
            },
        ] {
            for mut logits in [
                [f32::NAN; 4],
                [1.0, f32::NAN, 0.0, 0.0],
                [f32::INFINITY, 0.0, 0.0, 0.0],
                [f32::NEG_INFINITY; 4],
            ] {
                assert_eq!(choose(&mut logits, &choice(sampling.clone(), 0)), None, "{logits:?}");
            }
        }
    }
}
