//! The results of a run, and the limit of its throughput.

use crate::levels::{LEAST_LEVELS, Level, levels};
use crate::record::{RequestRecord, Sample, ServiceSample, Setup};
use crate::service_use::ServiceUse;
use crate::statistics::{mean_and_deviation, quantile, spread};
use crate::workload::{Arrival, Workload};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use vastrelay_wire::manage::Spread;

/// Requests that were sent so much later than due, in seconds and as a share of the median time to first token, spoil the
/// figures: the generator was too slow.
const LATE: (f64, f64) = (0.005, 0.1);

/// The figures of a run; durations in seconds.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
pub struct Summary {
    /// Requests sent.
    pub sent: usize,
    /// Requests with their whole answer.
    pub done: usize,
    /// Others, by kind.
    pub errors: BTreeMap<String, usize>,
    /// From due to first token.
    pub ttft: Spread,
    /// Gaps between tokens.
    pub itl: Spread,
    /// From due to the end.
    pub total: Spread,
    /// How long refusals took.
    pub refusal: Spread,
    /// Requests done, a second.
    pub request_rate: f64,
    /// Prompt tokens of done requests, a second; reused ones included.
    pub input_rate: f64,
    /// Tokens of answers, a second.
    pub output_rate: f64,
    /// Tokens a second that one stream got, after its first token.
    pub user_rate: Spread,
    /// Share of prompt tokens that were found in the cache.
    pub reused_share: f64,
    /// Share of the streams that never fell behind the pace.
    pub kept_pace: f64,
    /// Mean requests under way, on this side.
    pub mean_running: f64,
    /// Most sequences that waited, as sampled; absent where the service does not tell.
    pub deepest_queue: Option<usize>,
    /// Mean share of lanes in use.
    pub lanes_share: Option<f64>,
    /// Largest share of KV pages in use.
    pub pages_share: Option<f64>,
    /// Sequences put back into the queue to free pages.
    pub preemptions: Option<u64>,
    /// Share of the time that the device was busy.
    pub busy_share: Option<f64>,
    /// How late requests were sent.
    pub lateness: Spread,
    /// Each level of the load.
    #[serde(default)]
    pub levels: Vec<Level>,
    /// Times of requests that found nothing in the cache, and of those that did.
    #[serde(default)]
    pub by_reuse: Option<ByReuse>,
    /// Changes of the endpoint during the run.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub notes: Vec<String>,
    /// The limit of throughput.
    pub limit: Limit,
    /// The same in words, with the figures.
    pub limit_reason: String,
}

/// The limit of throughput.
#[derive(Clone, Copy, Debug, Default, Serialize, Deserialize, PartialEq, Eq)]
#[serde(rename_all = "lowercase")]
pub enum Limit {
    /// The places in the batch.
    Width,
    /// Memory for keys and values.
    Kv,
    /// The device's own speed.
    Device,
    /// The machine that sent the load.
    Generator,
    /// Nothing: the load was smaller than what the service can take.
    Load,
    /// The load had too few levels to tell.
    Undetermined,
    /// Not known: the service does not report its state.
    #[default]
    Unknown,
}

/// Times of requests that found nothing of their prompt in the cache, and of those that found some.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
pub struct ByReuse {
    /// Of those that found nothing.
    pub without: RepeatTimes,
    /// Of those that found some.
    pub with: RepeatTimes,
}

/// Times of the same request sent again and again; in seconds.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
pub struct RepeatTimes {
    /// Requests.
    pub count: usize,
    /// Mean time to first token.
    pub ttft: f64,
    /// Its standard deviation.
    pub ttft_deviation: f64,
    /// Mean time to the end.
    pub total: f64,
    /// Its standard deviation.
    pub total_deviation: f64,
}

impl ByReuse {
    /// Returns the times of both kinds, where any request is done.
    fn of(done: &[&RequestRecord]) -> Option<ByReuse> {
        let (with, without): (Vec<&RequestRecord>, Vec<&RequestRecord>) =
            done.iter().partition(|request| request.reused_tokens > 0);
        (!done.is_empty()).then(|| ByReuse {
            without: RepeatTimes::of(&without),
            with: RepeatTimes::of(&with),
        })
    }
}

impl RepeatTimes {
    fn of(requests: &[&RequestRecord]) -> RepeatTimes {
        let (ttft, ttft_deviation) = mean_and_deviation(requests.iter().filter_map(|request| request.ttft()).collect());
        let (total, total_deviation) = mean_and_deviation(requests.iter().map(|request| request.total()).collect());
        RepeatTimes {
            count: requests.len(),
            ttft,
            ttft_deviation,
            total,
            total_deviation,
        }
    }
}

impl Limit {
    /// Returns whether the limit is known.
    pub fn is_known(self) -> bool {
        !matches!(self, Limit::Undetermined | Limit::Unknown)
    }

    /// Returns a word for it.
    pub fn name(self) -> &'static str {
        match self {
            Limit::Width => "width",
            Limit::Kv => "KV",
            Limit::Device => "device",
            Limit::Generator => "generator",
            Limit::Load => "load",
            Limit::Undetermined => "undetermined",
            Limit::Unknown => "unknown",
        }
    }
}

impl Summary {
    /// Sums up a run whose throughput counts over so many seconds.
    pub fn new(
        workload: &Workload,
        setup: &Setup,
        requests: &[RequestRecord],
        samples: &[Sample],
        seconds: f64,
    ) -> Summary {
        let done: Vec<&RequestRecord> = requests.iter().filter(|request| request.error.is_none()).collect();
        let mut errors = BTreeMap::new();
        for kind in requests.iter().filter_map(|request| request.error.clone()) {
            *errors.entry(kind).or_insert(0) += 1;
        }
        let refused = |request: &&RequestRecord| request.error.as_ref().is_some_and(|kind| kind.starts_with("429"));
        let prompt_tokens: usize = done.iter().map(|request| request.prompt_tokens).sum();
        let reused_tokens: usize = done.iter().map(|request| request.reused_tokens).sum();
        let in_time = |request: &&&RequestRecord| request.ended <= seconds;
        let done_in_time = done.iter().filter(in_time);
        let tokens_in_time: usize = requests
            .iter()
            .map(|request| request.token_moments().filter(|at| *at <= seconds).count())
            .sum();
        let streams: Vec<&&RequestRecord> = done.iter().filter(|request| !request.gaps_us.is_empty()).collect();
        let user_rate =
            |request: &&&RequestRecord| request.gaps_us.len() as f64 / request.gaps().sum::<f64>().max(1e-6);
        let kept = streams
            .iter()
            .filter(|request| request.kept_pace(workload.pace))
            .count();
        let service: Vec<(f64, ServiceSample)> = samples.iter().filter_map(|s| Some((s.at, s.service?))).collect();
        let mut summary = Summary {
            sent: requests.len(),
            done: done.len(),
            errors,
            ttft: spread(done.iter().filter_map(|request| request.ttft()).collect()),
            itl: spread(done.iter().flat_map(|request| request.gaps()).collect()),
            total: spread(done.iter().map(|request| request.total()).collect()),
            refusal: spread(
                requests
                    .iter()
                    .filter(refused)
                    .map(|request| request.ended - request.sent)
                    .collect(),
            ),
            request_rate: done_in_time.clone().count() as f64 / seconds,
            input_rate: done_in_time.map(|request| request.prompt_tokens).sum::<usize>() as f64 / seconds,
            output_rate: tokens_in_time as f64 / seconds,
            user_rate: spread(streams.iter().map(user_rate).collect()),
            reused_share: reused_tokens as f64 / prompt_tokens.max(1) as f64,
            kept_pace: kept as f64 / streams.len().max(1) as f64,
            mean_running: requests
                .iter()
                .map(|request| request.ended.min(seconds) - request.sent.min(seconds))
                .sum::<f64>()
                / seconds,
            lateness: spread(requests.iter().map(|request| request.sent - request.due).collect()),
            ..Summary::default()
        };
        let size = setup
            .before
            .as_ref()
            .map_or((0, 0), |before| (before.occupancy.lanes, before.occupancy.pages));
        if setup.before.is_some() {
            summary.take_service(&service, size.0, size.1, seconds);
        }
        summary.levels = levels(workload, requests, samples, size, seconds);
        summary.by_reuse = ByReuse::of(&done);
        summary.notes = setup.changes();
        summary.find_limit(workload, !service.is_empty());
        summary
    }

    fn take_service(&mut self, service: &[(f64, ServiceSample)], width: usize, pages: usize, seconds: f64) {
        let during = service.partition_point(|(at, _)| *at <= seconds);
        if let Some(all) = ServiceUse::of(service, width, pages) {
            self.deepest_queue = Some(all.deepest_queue);
            self.pages_share = Some(all.pages_share);
            self.preemptions = Some(all.preemptions);
        }
        if let Some(during) = ServiceUse::of(&service[..during], width, pages) {
            self.lanes_share = Some(during.lanes_share);
            self.busy_share = during.busy_share;
        }
    }

    fn find_limit(&mut self, workload: &Workload, tells: bool) {
        let open = matches!(workload.arrival, Arrival::Poisson { .. });
        let late = open && self.lateness.p95 > LATE.0.max(LATE.1 * self.ttft.p50);
        (self.limit, self.limit_reason) = if late {
            let late = self.lateness.p95 * 1000.0;
            let reason =
                format!("one request in twenty was sent {late:.0} ms late or more: this machine could not send faster");
            (Limit::Generator, reason)
        } else if !tells {
            (Limit::Unknown, "the service does not report its state".into())
        } else if self.levels.len() < LEAST_LEVELS {
            (Limit::Undetermined, self.too_few_levels())
        } else {
            match self.levels.iter().position(|level| level.is_knee) {
                Some(knee) => at_knee(&self.levels[knee - 1], &self.levels[knee]),
                None => (Limit::Load, still_growing(&self.levels)),
            }
        };
    }

    /// Describes the use of the service, and asks for more levels.
    fn too_few_levels(&self) -> String {
        let levels = match self.levels.len() {
            1 => "one level of load".to_owned(),
            count => format!("{count} levels of load"),
        };
        let stood = match (self.lanes_share, self.deepest_queue, self.busy_share) {
            (Some(lanes), Some(queue), Some(busy)) => format!(
                "{} of the lanes were in use on average, at most {queue} waited, the device was busy {} of the time; ",
                percent(lanes),
                percent(busy)
            ),
            _ => "the run was too short to look at the service; ".into(),
        };
        format!("{stood}{levels} cannot show the limit; {LEAST_LEVELS} levels can: --arrival steps")
    }
}

/// Says what limits throughput at the knee, which more users than the level before do not move.
fn at_knee(before: &Level, knee: &Level) -> (Limit, String) {
    let more = if knee.output_rate > before.output_rate {
        "hardly"
    } else {
        "no"
    };
    let gain = format!(
        "{} users give {:.0} tokens/s, {more} more than the {:.0} of {} users",
        knee.users, knee.output_rate, before.output_rate, before.users
    );
    let preempted = knee.preemptions.unwrap_or(0);
    let (full, pages) = (knee.full_share.unwrap_or(0.0), knee.pages_share.unwrap_or(0.0));
    let busy = knee.busy_share.unwrap_or(0.0);
    let (limit, how) = if preempted > 0 || (pages > 0.95 && full < 0.5) {
        let how = format!(
            "{} of the KV pages were in use, {preempted} sequences lost their place for them",
            percent(pages)
        );
        (Limit::Kv, how)
    } else if full >= 0.5 {
        let how = format!(
            "all lanes were taken in {} of the looks, the device was busy {} of the time",
            percent(full),
            percent(busy)
        );
        (Limit::Width, how)
    } else if busy > 0.9 {
        (
            Limit::Device,
            format!(
                "the device was busy {} of the time while lanes were free",
                percent(busy)
            ),
        )
    } else {
        let how =
            "neither lanes, KV pages nor the device were used up; the callers or the way to them may limit it".into();
        (Limit::Unknown, how)
    };
    (limit, format!("{gain}; {how}"))
}

fn still_growing(levels: &[Level]) -> String {
    let last = &levels[levels.len() - 1];
    let gain = last
        .gain
        .map_or(String::new(), |gain| format!(" ({:+.0} %)", gain * 100.0));
    format!(
        "throughput was still growing at {} users{gain}, so this is not a capacity figure; add steps with more users",
        last.users
    )
}

fn percent(share: f64) -> String {
    format!("{:.0} %", share * 100.0)
}

/// Returns the value below which a share of the running requests' times lies, for charts.
pub fn cumulative(values: &[f64], points: usize) -> Vec<(f64, f64)> {
    let mut sorted = values.to_vec();
    sorted.sort_by(f64::total_cmp);
    let share = |point: usize| point as f64 / points as f64;
    (1..=points)
        .map(|point| (quantile(&sorted, share(point)), share(point)))
        .collect()
}
