//! The levels of a load, and the one from which more users give no more throughput.

use crate::record::{RequestRecord, Sample};
use crate::service_use::ServiceUse;
use crate::statistics::{mean_and_deviation, spread};
use crate::workload::{Arrival, Workload};
use serde::{Deserialize, Serialize};

/// Levels that a verdict needs.
pub const LEAST_LEVELS: usize = 3;
/// A gain in throughput below this share is none.
const LEAST_GAIN: f64 = 0.05;
/// Standard errors within which a gain may be chance.
const NOISE: f64 = 2.0;
/// Parts of a level, whose rates give the variance of its throughput.
const PARTS: usize = 10;

/// One level of a load: so many users over a stretch of time. Durations in seconds.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
pub struct Level {
    /// Users.
    pub users: usize,
    /// When it began, from the start.
    pub from: f64,
    /// When it ended.
    pub to: f64,
    /// Requests that were due in it.
    pub sent: usize,
    /// Of those, with their whole answer.
    pub done: usize,
    /// Tokens of answers, a second.
    pub output_rate: f64,
    /// The standard error of that rate, from parts of the level.
    pub output_rate_error: f64,
    /// Median time to first token.
    pub ttft_p50: f64,
    /// Median gap between tokens.
    pub itl_p50: f64,
    /// Mean share of lanes in use; absent where there were too few looks at the service.
    pub lanes_share: Option<f64>,
    /// Share of the looks that found all lanes in use.
    pub full_share: Option<f64>,
    /// Most sequences that waited.
    pub deepest_queue: Option<usize>,
    /// Largest share of KV pages in use.
    pub pages_share: Option<f64>,
    /// Sequences put back into the queue to free pages.
    pub preemptions: Option<u64>,
    /// Share of the time that the device was busy.
    pub busy_share: Option<f64>,
    /// The gain in throughput over the level before, as a share of that; absent for the first.
    pub gain: Option<f64>,
    /// Whether it is the knee: the first whose gain is below 5 % and within noise.
    pub is_knee: bool,
}

/// Returns the levels of a workload of so many seconds: one, or each step. `width` and `pages` are those of the endpoint.
pub fn levels(
    workload: &Workload,
    requests: &[RequestRecord],
    samples: &[Sample],
    (width, pages): (usize, usize),
    seconds: f64,
) -> Vec<Level> {
    let stretches: Vec<(usize, f64, f64)> = match &workload.arrival {
        Arrival::Closed { users } => vec![(*users, 0.0, seconds)],
        Arrival::Poisson { .. } => vec![(0, 0.0, seconds)],
        Arrival::Steps { users, seconds: each } => {
            let stretch = |(step, users): (usize, &usize)| {
                let from = step as f64 * each;
                (*users, from, (from + each).min(seconds))
            };
            let stretches = users.iter().enumerate().map(stretch);
            stretches.filter(|(_, from, to)| to > from).collect()
        }
    };
    let of = |(users, from, to)| level(users, (from, to), requests, samples, (width, pages));
    let mut levels: Vec<Level> = stretches.into_iter().map(of).collect();
    find_knee(&mut levels);
    levels
}

/// Notes the gains, and the first level whose gain is below 5 % and within noise.
fn find_knee(levels: &mut [Level]) {
    let mut is_found = false;
    for at in 1..levels.len() {
        let (before, level) = (levels[at - 1].clone(), &mut levels[at]);
        let more = level.output_rate - before.output_rate;
        let noise = NOISE * before.output_rate_error.hypot(level.output_rate_error);
        level.gain = (before.output_rate > 0.0).then(|| more / before.output_rate);
        let has_none = level.users > before.users && level.gain.is_some_and(|gain| gain < LEAST_GAIN) && more <= noise;
        level.is_knee = has_none && !is_found;
        is_found |= has_none;
    }
}

fn level(
    users: usize,
    (from, to): (f64, f64),
    requests: &[RequestRecord],
    samples: &[Sample],
    (width, pages): (usize, usize),
) -> Level {
    let due: Vec<&RequestRecord> = requests.iter().filter(|one| (from..to).contains(&one.due)).collect();
    let done: Vec<&&RequestRecord> = due.iter().filter(|request| request.error.is_none()).collect();
    let rates = rates(requests, from, to);
    let (mean, deviation) = mean_and_deviation(rates.to_vec());
    let mut level = Level {
        users,
        from,
        to,
        sent: due.len(),
        done: done.len(),
        output_rate: mean,
        output_rate_error: deviation / (PARTS as f64).sqrt(),
        ttft_p50: spread(done.iter().filter_map(|request| request.ttft()).collect()).p50,
        itl_p50: spread(done.iter().flat_map(|request| request.gaps()).collect()).p50,
        ..Level::default()
    };
    let within = |sample: &&Sample| (from..=to).contains(&sample.at);
    let looks = samples
        .iter()
        .filter(within)
        .filter_map(|one| Some((one.at, one.service?)));
    if let Some(service) = ServiceUse::of(&looks.collect::<Vec<_>>(), width, pages) {
        level.note_use(service);
    }
    level
}

impl Level {
    fn note_use(&mut self, service: ServiceUse) {
        self.lanes_share = Some(service.lanes_share);
        self.full_share = Some(service.full_share);
        self.deepest_queue = Some(service.deepest_queue);
        self.pages_share = Some(service.pages_share);
        self.preemptions = Some(service.preemptions);
        self.busy_share = service.busy_share;
    }
}

/// Returns the tokens a second of each part of a stretch.
fn rates(requests: &[RequestRecord], from: f64, to: f64) -> [f64; PARTS] {
    let each = ((to - from) / PARTS as f64).max(1e-9);
    let mut rates = [0.0; PARTS];
    let within = |at: &f64| (from..to).contains(at);
    for at in requests.iter().flat_map(RequestRecord::token_moments).filter(within) {
        rates[(((at - from) / each) as usize).min(PARTS - 1)] += 1.0 / each;
    }
    rates
}

#[cfg(test)]
mod tests {
    use super::*;

    fn level(users: usize, output_rate: f64, output_rate_error: f64) -> Level {
        Level {
            users,
            output_rate,
            output_rate_error,
            ..Level::default()
        }
    }

    fn knee(rates: &[(usize, f64, f64)]) -> Option<usize> {
        let mut levels: Vec<Level> = rates
            .iter()
            .map(|(users, rate, error)| level(*users, *rate, *error))
            .collect();
        find_knee(&mut levels);
        levels.iter().find(|level| level.is_knee).map(|level| level.users)
    }

    #[test]
    fn the_knee_is_the_first_level_that_gains_less_than_a_twentieth() {
        assert_eq!(
            knee(&[(1, 100.0, 1.0), (2, 190.0, 1.0), (4, 194.0, 3.0), (8, 195.0, 3.0)]),
            Some(4)
        );
        assert_eq!(knee(&[(1, 100.0, 1.0), (2, 190.0, 1.0), (4, 300.0, 3.0)]), None);
        // A fall is no gain; a small gain that is certain is one.
        assert_eq!(knee(&[(1, 100.0, 1.0), (2, 90.0, 1.0)]), Some(2));
        assert_eq!(knee(&[(1, 100.0, 0.1), (2, 104.0, 0.1)]), None);
        // Fewer users give less, which tells nothing.
        assert_eq!(knee(&[(8, 100.0, 1.0), (4, 60.0, 1.0)]), None);
    }

    #[test]
    fn each_level_counts_what_was_due_in_it_and_the_tokens_that_came_in_it() {
        let request = |due: f64| RequestRecord {
            due,
            sent: due,
            first_token: Some(due + 0.5),
            ended: due + 1.5,
            gaps_us: vec![1_000_000],
            output_tokens: 2,
            ..RequestRecord::default()
        };
        let workload = crate::workload::tests::workload(Arrival::Steps {
            users: vec![1, 2],
            seconds: 10.0,
        });
        let requests = [request(0.0), request(9.0), request(12.0)];
        let found = levels(&workload, &requests, &[], (4, 10), 20.0);
        let counts: Vec<(usize, usize)> = found.iter().map(|level| (level.users, level.sent)).collect();
        assert_eq!(counts, [(1, 2), (2, 1)]);
        // The second token of the second request comes in the second level.
        assert!((found[0].output_rate - 0.3).abs() < 1e-9 && (found[1].output_rate - 0.3).abs() < 1e-9);
        assert_eq!((found[0].ttft_p50, found[0].lanes_share), (0.5, None));
        // A run that ended early has no level that never began.
        assert_eq!(levels(&workload, &requests, &[], (4, 10), 8.0).len(), 1);
    }
}
