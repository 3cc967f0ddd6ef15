//! What came out of a run, and what limited it.

use crate::record::{RequestRecord, Sample, ServiceSample, Setup};
use crate::statistics::{quantile, spread};
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
    /// What kept throughput from being higher.
    pub limit: Limit,
    /// The same in words, with the figures.
    pub limit_reason: String,
}

/// What kept throughput from being higher.
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
    /// Not known: the service does not tell how it stands.
    #[default]
    Unknown,
}

impl Limit {
    /// Returns a word for it.
    pub fn name(self) -> &'static str {
        match self {
            Limit::Width => "width",
            Limit::Kv => "KV",
            Limit::Device => "device",
            Limit::Generator => "generator",
            Limit::Load => "load",
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
        let tokens_in_time: usize = requests.iter().map(|request| tokens_before(request, seconds)).sum();
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
            mean_running: samples.iter().map(|sample| sample.running).sum::<usize>() as f64
                / samples.len().max(1) as f64,
            lateness: spread(requests.iter().map(|request| request.sent - request.due).collect()),
            ..Summary::default()
        };
        if let (Some(before), false) = (&setup.before, service.is_empty()) {
            summary.take_service(&service, before.occupancy.lanes, before.occupancy.pages, seconds);
        }
        summary.find_limit(
            workload,
            &service,
            setup.before.as_ref().map_or(0, |before| before.occupancy.lanes),
        );
        summary
    }

    fn take_service(&mut self, service: &[(f64, ServiceSample)], width: usize, pages: usize, seconds: f64) {
        let during: Vec<&ServiceSample> = service
            .iter()
            .filter(|(at, _)| *at <= seconds)
            .map(|(_, s)| s)
            .collect();
        let lanes: usize = during.iter().map(|sample| sample.lanes_used).sum();
        let (first, last) = (&service[0], &service[service.len() - 1]);
        self.deepest_queue = service.iter().map(|(_, sample)| sample.queue_depth).max();
        self.lanes_share = Some(lanes as f64 / (during.len().max(1) * width.max(1)) as f64);
        let most_pages = service.iter().map(|(_, sample)| sample.pages_used).max().unwrap_or(0);
        self.pages_share = Some(most_pages as f64 / pages.max(1) as f64);
        // A new release or worker counts from zero: what it has counted is added to what the last one had.
        let pairs = || service.windows(2).map(|pair| (&pair[0], &pair[1]));
        let grown = pairs().map(|(before, after)| after.1.preemptions.saturating_sub(before.1.preemptions));
        self.preemptions = Some(grown.sum());
        let (from, to) = (first, service.iter().rfind(|(at, _)| *at <= seconds).unwrap_or(last));
        let time = to.0 - from.0;
        let within = pairs().filter(|(_, after)| after.0 <= to.0);
        let busy: f64 = within
            .map(|(before, after)| (after.1.busy - before.1.busy).max(0.0))
            .sum();
        self.busy_share = (time > 0.0).then(|| (busy / time).min(1.0));
    }

    fn find_limit(&mut self, workload: &Workload, service: &[(f64, ServiceSample)], width: usize) {
        let full = service.iter().filter(|(_, sample)| sample.lanes_used >= width).count();
        let full_share = full as f64 / service.len().max(1) as f64;
        let percent = |share: f64| format!("{:.0} %", share * 100.0);
        let open = matches!(workload.arrival, Arrival::Poisson { .. });
        let (limit, reason) = if open && self.lateness.p95 > LATE.0.max(LATE.1 * self.ttft.p50) {
            let late = self.lateness.p95 * 1000.0;
            (
                Limit::Generator,
                format!("one request in twenty was sent {late:.0} ms late or more: this machine could not send faster"),
            )
        } else if service.is_empty() {
            (Limit::Unknown, "the service does not tell how it stands".into())
        } else if self.preemptions.unwrap_or(0) > 0 || (self.pages_share.unwrap_or(0.0) > 0.95 && full_share < 0.5) {
            let (count, pages) = (self.preemptions.unwrap_or(0), percent(self.pages_share.unwrap_or(0.0)));
            (
                Limit::Kv,
                format!("{pages} of the KV pages were in use at most, and {count} sequences lost their place for them"),
            )
        } else if full_share >= 0.5 {
            let busy = percent(self.busy_share.unwrap_or(0.0));
            (
                Limit::Width,
                format!(
                    "all {width} lanes were taken in {} of the samples; the device was busy {busy} of the time",
                    percent(full_share)
                ),
            )
        } else if self.busy_share.unwrap_or(0.0) > 0.9 {
            (
                Limit::Device,
                format!(
                    "the device was busy {} of the time while lanes were free",
                    percent(self.busy_share.unwrap_or(0.0))
                ),
            )
        } else {
            let lanes = percent(self.lanes_share.unwrap_or(0.0));
            (
                Limit::Load,
                format!(
                    "the load used {lanes} of the lanes on average and never filled the batch, so this is not a capacity figure"
                ),
            )
        };
        (self.limit, self.limit_reason) = (limit, reason);
    }
}

/// Returns the tokens of a request that came before a moment.
fn tokens_before(request: &RequestRecord, end: f64) -> usize {
    let Some(first) = request.first_token else { return 0 };
    let later = request.gaps().scan(first, |at, gap| {
        *at += gap;
        Some(*at)
    });
    std::iter::once(first).chain(later).filter(|at| *at <= end).count()
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
