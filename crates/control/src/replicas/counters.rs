//! The counters of one release. They end with the release, and so do its series.

use crate::replicas::gaps;
use crate::replicas::gaps::Gaps;
use prometheus_client::encoding::{DescriptorEncoder, EncodeLabelSet, EncodeMetric};
use prometheus_client::metrics::MetricType;
use prometheus_client::metrics::counter::Counter;
use prometheus_client::metrics::histogram::Histogram;
use prometheus_client::registry::Unit;
use std::collections::BTreeMap;
use std::fmt;
use std::sync::{Mutex, MutexGuard, PoisonError};
use vastrelay_engine::record::StepRecord;
use vastrelay_engine::scheduler::RowKind;

/// From a millisecond to minutes.
pub const DURATIONS: [f64; 19] = [
    0.001, 0.002, 0.005, 0.01, 0.02, 0.05, 0.1, 0.2, 0.3, 0.5, 1.0, 2.0, 3.0, 5.0, 10.0, 30.0, 60.0, 120.0, 300.0,
];
/// Powers of four, as the conventions have them.
const TOKENS: [f64; 10] = [1.0, 4.0, 16.0, 64.0, 256.0, 1024.0, 4096.0, 16384.0, 65536.0, 262144.0];

/// The labels of a release's series.
#[derive(Clone, Debug, Default)]
pub struct ReleaseLabels {
    /// The endpoint; empty for calls that reached none.
    pub endpoint: String,
    /// The number of the release.
    pub release: String,
    /// The device.
    pub device: String,
    /// Whether that stands in for hardware that is not here.
    pub simulated: bool,
}

impl ReleaseLabels {
    /// Returns them for our own series.
    pub fn ours(&self) -> [(&str, &str); 4] {
        [
            ("endpoint", &self.endpoint),
            ("release", &self.release),
            ("device", &self.device),
            ("simulated", if self.simulated { "true" } else { "false" }),
        ]
    }

    /// Returns them for series that OpenTelemetry's conventions name.
    fn conventional(&self, operation: &'static str) -> [(&str, &str); 5] {
        let [_, release, device, simulated] = self.ours();
        [
            ("gen_ai_operation_name", operation),
            ("gen_ai_request_model", &self.endpoint),
            release,
            device,
            simulated,
        ]
    }
}

/// Everything that is counted of a release. Durations in seconds.
pub struct ReleaseMetrics {
    labels: ReleaseLabels,
    chat: OperationMetrics,
    completions: OperationMetrics,
    queued: Histogram,
    gaps: Gaps,
    /// By kind: prefill, decode, mixed.
    steps: [Histogram; 3],
    refusals: Mutex<BTreeMap<String, Counter>>,
    /// By what ended them.
    workers_gone: Mutex<BTreeMap<String, Counter>>,
    moves: Counter,
    reused: Counter,
    gone: Counter,
}

const STEP_KINDS: [&str; 3] = ["prefill", "decode", "mixed"];

/// What is counted of one operation, under the conventions' names.
struct OperationMetrics {
    name: &'static str,
    ttft: Histogram,
    output_token: Histogram,
    /// By the name of what went wrong; empty when nothing did.
    durations: Mutex<BTreeMap<String, Histogram>>,
    input_tokens: Histogram,
    output_tokens: Histogram,
}

/// A call that has ended, as it is counted. Durations in seconds.
pub struct EndedCall<'a> {
    /// Its operation.
    pub operation: &'a str,
    /// The name of what went wrong; empty when nothing did.
    pub error: &'a str,
    /// From its arrival to its end.
    pub total: f64,
    /// The mean gap between tokens.
    pub itl_mean: f64,
    /// Its wait for a lane.
    pub queued: f64,
    /// Tokens of its prompt.
    pub prompt_tokens: usize,
    /// Tokens of its prompt that were found in the cache.
    pub reused_tokens: usize,
    /// Tokens of its answer.
    pub output_tokens: usize,
    /// Whether its caller left before the end.
    pub client_gone: bool,
}

impl OperationMetrics {
    fn new(name: &'static str) -> OperationMetrics {
        OperationMetrics {
            name,
            ttft: Histogram::new(DURATIONS),
            output_token: Histogram::new(gaps::ENDS),
            durations: Mutex::default(),
            input_tokens: Histogram::new(TOKENS),
            output_tokens: Histogram::new(TOKENS),
        }
    }
}

impl ReleaseMetrics {
    /// Returns the metrics of a release of which nothing is counted yet.
    pub fn new(labels: ReleaseLabels) -> ReleaseMetrics {
        ReleaseMetrics {
            labels,
            chat: OperationMetrics::new("chat"),
            completions: OperationMetrics::new("text_completion"),
            queued: Histogram::new(DURATIONS),
            gaps: Gaps::default(),
            steps: STEP_KINDS.map(|_| Histogram::new(gaps::ENDS)),
            refusals: Mutex::default(),
            workers_gone: Mutex::default(),
            moves: Counter::default(),
            reused: Counter::default(),
            gone: Counter::default(),
        }
    }

    /// Returns what tells it from others.
    pub fn labels(&self) -> &ReleaseLabels {
        &self.labels
    }

    fn operations(&self) -> [(&ReleaseLabels, &OperationMetrics); 2] {
        [(&self.labels, &self.chat), (&self.labels, &self.completions)]
    }

    fn operation(&self, name: &str) -> &OperationMetrics {
        if name == "chat" { &self.chat } else { &self.completions }
    }

    /// Counts a first token.
    pub fn first_token(&self, operation: &str, ttft: f64) {
        self.operation(operation).ttft.observe(ttft);
    }

    /// Counts gaps between tokens.
    pub fn gaps(&self, gaps: &[f64]) {
        self.gaps.add(gaps);
    }

    /// Counts a request that was turned away.
    pub fn refused(&self, reason: &str) {
        lock(&self.refusals).entry(reason.to_owned()).or_default().inc();
    }

    /// Counts a worker that is gone, by what ended it.
    pub fn worker_gone(&self, cause: &str) {
        lock(&self.workers_gone).entry(cause.to_owned()).or_default().inc();
    }

    /// Counts a call that goes on with another worker.
    pub fn moved(&self) {
        self.moves.inc();
    }

    /// Counts a call that has ended.
    pub fn ended(&self, call: &EndedCall<'_>) {
        let operation = self.operation(call.operation);
        lock(&operation.durations)
            .entry(call.error.to_owned())
            .or_insert_with(|| Histogram::new(DURATIONS))
            .observe(call.total);
        if !call.error.is_empty() {
            return;
        }
        if call.client_gone {
            self.gone.inc();
        }
        if call.output_tokens > 1 {
            operation.output_token.observe(call.itl_mean);
        }
        self.queued.observe(call.queued);
        self.reused.inc_by(call.reused_tokens as u64);
        operation.input_tokens.observe(call.prompt_tokens as f64);
        operation.output_tokens.observe(call.output_tokens as f64);
    }

    /// Counts steps.
    pub fn steps(&self, steps: &[StepRecord]) {
        for step in steps {
            let has = |kind: RowKind| step.lanes.iter().any(|lane| lane.kind == kind);
            let kind = match (has(RowKind::Prefill), has(RowKind::Decode)) {
                (true, true) => 2,
                (true, false) => 0,
                _ => 1,
            };
            self.steps[kind].observe(step.duration);
        }
    }
}

fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

/// A family of series that is being written.
pub struct Series<'a, 'e> {
    encoder: &'a mut DescriptorEncoder<'e>,
    name: &'static str,
    help: &'static str,
    unit: Option<&'static Unit>,
}

impl<'a, 'e> Series<'a, 'e> {
    /// Returns a series of a name that is written with an encoder.
    pub fn new(encoder: &'a mut DescriptorEncoder<'e>, name: &'static str, help: &'static str) -> Series<'a, 'e> {
        Series {
            encoder,
            name,
            help,
            unit: None,
        }
    }

    /// Returns it with its unit.
    pub fn in_unit(self, unit: &'static Unit) -> Series<'a, 'e> {
        Series {
            unit: Some(unit),
            ..self
        }
    }

    /// Writes all of a type: `each` is given what writes one, with its labels.
    pub fn write(
        self,
        kind: MetricType,
        each: impl FnOnce(&mut dyn FnMut(&dyn Labelled) -> fmt::Result) -> fmt::Result,
    ) -> fmt::Result {
        let mut family = self.encoder.encode_descriptor(self.name, self.help, self.unit, kind)?;
        each(&mut |one| one.encode(&mut family))
    }
}

/// A metric with its labels.
pub trait Labelled {
    /// Writes it into a family.
    ///
    /// # Errors
    /// The encoder's own.
    fn encode(&self, family: &mut prometheus_client::encoding::MetricEncoder<'_>) -> fmt::Result;
}

impl<L: EncodeLabelSet, M: EncodeMetric> Labelled for (L, &M) {
    fn encode(&self, family: &mut prometheus_client::encoding::MetricEncoder<'_>) -> fmt::Result {
        self.1.encode(family.encode_family(&self.0)?)
    }
}

/// Writes the series of releases, and what is counted of calls that reached none: how they failed.
pub fn encode(
    encoder: &mut DescriptorEncoder<'_>,
    releases: &[&ReleaseMetrics],
    nobody: &ReleaseMetrics,
) -> fmt::Result {
    let everybody = || releases.iter().copied().chain([nobody]);
    let seconds = &Unit::Seconds;
    type Take = fn(&OperationMetrics) -> &Histogram;
    let conventional: [(&str, &str, Take); 2] = [
        (
            "gen_ai_server_time_to_first_token",
            "Time from a request's arrival to its first token",
            |operation| &operation.ttft,
        ),
        (
            "gen_ai_server_time_per_output_token",
            "Mean time of each output token after the first, per request",
            |operation| &operation.output_token,
        ),
    ];
    let operations = || releases.iter().flat_map(|release| release.operations());
    for (name, help, take) in conventional {
        Series::new(encoder, name, help)
            .in_unit(seconds)
            .write(MetricType::Histogram, |write| {
                operations()
                    .try_for_each(|(labels, operation)| write(&(labels.conventional(operation.name), take(operation))))
            })?;
    }
    Series::new(
        encoder,
        "gen_ai_server_request_duration",
        "Time from a request's arrival to its end",
    )
    .in_unit(seconds)
    .write(MetricType::Histogram, |write| {
        everybody()
            .flat_map(ReleaseMetrics::operations)
            .try_for_each(|(labels, operation)| {
                lock(&operation.durations).iter().try_for_each(|(error, durations)| {
                    let error = [("error_type", error.as_str())];
                    write(&((labels.conventional(operation.name), error), durations))
                })
            })
    })?;
    Series::new(
        encoder,
        "gen_ai_client_token_usage",
        "Tokens of a request by type: input or output",
    )
    .write(MetricType::Histogram, |write| {
        operations().try_for_each(|(labels, operation)| {
            let kind = |kind: &'static str| [("gen_ai_token_type", kind)];
            let conventional = labels.conventional(operation.name);
            write(&((conventional, kind("input")), &operation.input_tokens))?;
            write(&((conventional, kind("output")), &operation.output_tokens))
        })
    })?;
    Series::new(encoder, "vastrelay_queued", "Time that a request waited for the batch")
        .in_unit(seconds)
        .write(MetricType::Histogram, |write| {
            let mut each = releases.iter();
            each.try_for_each(|release| write(&(release.labels.ours(), &release.queued)))
        })?;
    Series::new(
        encoder,
        "vastrelay_inter_token",
        "Each gap between two tokens of one stream",
    )
    .in_unit(seconds)
    .write(MetricType::Histogram, |write| {
        let mut each = releases.iter();
        each.try_for_each(|release| write(&(release.labels.ours(), &release.gaps)))
    })?;
    Series::new(
        encoder,
        "vastrelay_step",
        "Time of a step by kind: prefill, decode or mixed",
    )
    .in_unit(seconds)
    .write(MetricType::Histogram, |write| {
        releases.iter().try_for_each(|release| {
            let kinds = STEP_KINDS.iter().zip(&release.steps);
            kinds
                .into_iter()
                .try_for_each(|(kind, steps)| write(&((release.labels.ours(), [("kind", *kind)]), steps)))
        })
    })?;
    let by = |counts: &Mutex<BTreeMap<String, Counter>>, write: &mut dyn FnMut(&str, &Counter) -> fmt::Result| {
        let counts = lock(counts);
        counts.iter().try_for_each(|(name, count)| write(name, count))
    };
    Series::new(encoder, "vastrelay_refusals", "Requests refused, by reason").write(MetricType::Counter, |write| {
        everybody().try_for_each(|release| {
            by(&release.refusals, &mut |reason, count| {
                write(&((release.labels.ours(), [("reason", reason)]), count))
            })
        })
    })?;
    let help = "Workers that ended though nobody told them to, by cause";
    Series::new(encoder, "vastrelay_workers_gone", help).write(MetricType::Counter, |write| {
        releases.iter().try_for_each(|release| {
            by(&release.workers_gone, &mut |cause, count| {
                write(&((release.labels.ours(), [("cause", cause)]), count))
            })
        })
    })?;
    type Count = fn(&ReleaseMetrics) -> &Counter;
    let counts: [(&str, &str, Count); 3] = [
        ("vastrelay_moves", "Calls that went on with another worker", |release| {
            &release.moves
        }),
        (
            "vastrelay_reused_tokens",
            "Prompt tokens found in the cache",
            |release| &release.reused,
        ),
        (
            "vastrelay_departures",
            "Calls whose caller went away before the end",
            |release| &release.gone,
        ),
    ];
    for (name, help, take) in counts {
        Series::new(encoder, name, help).write(MetricType::Counter, |write| {
            releases
                .iter()
                .try_for_each(|release| write(&(release.labels.ours(), take(release))))
        })?;
    }
    Ok(())
}
