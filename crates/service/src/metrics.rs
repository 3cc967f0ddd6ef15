//! Figures for scrapers: `GET /metrics`.
//!
//! Where OpenTelemetry's conventions for generative AI have a name, it is theirs; everything else begins with `vastrelay_`.

pub mod scrape;

use crate::served::Models;
use prometheus_client::collector::Collector;
use prometheus_client::encoding::{DescriptorEncoder, EncodeLabelSet, EncodeMetric};
use prometheus_client::metrics::counter::{ConstCounter, Counter};
use prometheus_client::metrics::family::Family;
use prometheus_client::metrics::gauge::ConstGauge;
use prometheus_client::metrics::histogram::Histogram;
use prometheus_client::registry::{Registry, Unit};
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use vastrelay_engine::EngineStatus;
use vastrelay_engine::record::StepRecord;
use vastrelay_engine::scheduler::RowKind;
use vastrelay_serving::Replica;
use vastrelay_store::LostRecords;

/// From a millisecond to minutes.
const DURATIONS: [f64; 19] = [
    0.001, 0.002, 0.005, 0.01, 0.02, 0.05, 0.1, 0.2, 0.3, 0.5, 1.0, 2.0, 3.0, 5.0, 10.0, 30.0, 60.0, 120.0, 300.0,
];
/// Gaps between tokens and steps are shorter.
const SHORT: [f64; 20] = [
    0.0002, 0.0005, 0.001, 0.0015, 0.002, 0.003, 0.005, 0.0075, 0.01, 0.015, 0.02, 0.03, 0.05, 0.1, 0.2, 0.5, 1.0, 5.0,
    30.0, 120.0,
];
/// Powers of four, as the conventions have them.
const TOKENS: [f64; 10] = [1.0, 4.0, 16.0, 64.0, 256.0, 1024.0, 4096.0, 16384.0, 65536.0, 262144.0];

#[derive(Clone, Debug, PartialEq, Eq, Hash, EncodeLabelSet)]
struct CallLabels {
    gen_ai_operation_name: &'static str,
    gen_ai_request_model: String,
}

#[derive(Clone, Debug, PartialEq, Eq, Hash, EncodeLabelSet)]
struct TokenLabels {
    gen_ai_operation_name: &'static str,
    gen_ai_request_model: String,
    gen_ai_token_type: &'static str,
}

#[derive(Clone, Debug, PartialEq, Eq, Hash, EncodeLabelSet)]
struct EndLabels {
    gen_ai_operation_name: &'static str,
    gen_ai_request_model: String,
    error_type: String,
}

#[derive(Clone, Debug, PartialEq, Eq, Hash, EncodeLabelSet)]
struct ModelLabels {
    model: String,
}

#[derive(Clone, Debug, PartialEq, Eq, Hash, EncodeLabelSet)]
struct RefusalLabels {
    model: String,
    reason: String,
}

#[derive(Clone, Debug, PartialEq, Eq, Hash, EncodeLabelSet)]
struct StepLabels {
    model: String,
    kind: &'static str,
}

#[derive(Clone, Debug, PartialEq, Eq, Hash, EncodeLabelSet)]
struct HttpLabels {
    route: String,
    method: String,
    status: u16,
}

type Durations<Labels> = Family<Labels, Histogram, fn() -> Histogram>;

/// Everything that is counted.
pub(crate) struct Metrics {
    registry: Registry,
    ttft: Durations<CallLabels>,
    output_token: Durations<CallLabels>,
    duration: Durations<EndLabels>,
    tokens: Durations<TokenLabels>,
    queued: Durations<ModelLabels>,
    gaps: Durations<ModelLabels>,
    steps: Durations<StepLabels>,
    refusals: Family<RefusalLabels, Counter>,
    reused: Family<ModelLabels, Counter>,
    gone: Family<ModelLabels, Counter>,
    http: Durations<HttpLabels>,
}

/// A call that has ended, as it is counted. Durations in seconds.
pub(crate) struct EndedCall<'a> {
    pub endpoint: &'a str,
    pub model: &'a str,
    /// The name of what went wrong; empty when nothing did.
    pub error: &'a str,
    pub total: f64,
    pub itl_mean: f64,
    pub queued: f64,
    pub prompt_tokens: usize,
    pub reused_tokens: usize,
    pub output_tokens: usize,
    pub client_gone: bool,
}

impl Metrics {
    pub fn new(models: Models, active_calls: Arc<AtomicUsize>, lost: LostRecords) -> Metrics {
        let mut registry = Registry::default();
        let durations: fn() -> Histogram = || Histogram::new(DURATIONS);
        let short: fn() -> Histogram = || Histogram::new(SHORT);
        let tokens: fn() -> Histogram = || Histogram::new(TOKENS);
        let metrics = Metrics {
            ttft: Family::new_with_constructor(durations),
            output_token: Family::new_with_constructor(short),
            duration: Family::new_with_constructor(durations),
            tokens: Family::new_with_constructor(tokens),
            queued: Family::new_with_constructor(durations),
            gaps: Family::new_with_constructor(short),
            steps: Family::new_with_constructor(short),
            http: Family::new_with_constructor(durations),
            refusals: Family::default(),
            reused: Family::default(),
            gone: Family::default(),
            registry: Registry::default(),
        };
        let r = &mut registry;
        let s = Unit::Seconds;
        let unit = |name: &str| (format!("gen_ai_server_{name}"), s.clone());
        for (name, help, family) in [
            (
                "time_to_first_token",
                "Time from a request's arrival to its first token",
                &metrics.ttft,
            ),
            (
                "time_per_output_token",
                "Mean time of each output token after the first, per request",
                &metrics.output_token,
            ),
        ] {
            let (name, unit) = unit(name);
            r.register_with_unit(name, help, unit, family.clone());
        }
        let (name, unit) = unit("request_duration");
        r.register_with_unit(
            name,
            "Time from a request's arrival to its end",
            unit,
            metrics.duration.clone(),
        );
        r.register(
            "gen_ai_client_token_usage",
            "Tokens of a request by type: input or output",
            metrics.tokens.clone(),
        );
        r.register_with_unit(
            "vastrelay_queued",
            "Time that a request waited for the batch",
            s.clone(),
            metrics.queued.clone(),
        );
        r.register_with_unit(
            "vastrelay_inter_token",
            "Each gap between two tokens of one stream",
            s.clone(),
            metrics.gaps.clone(),
        );
        r.register_with_unit(
            "vastrelay_step",
            "Time of a step by kind: prefill, decode or mixed",
            s.clone(),
            metrics.steps.clone(),
        );
        r.register_with_unit(
            "vastrelay_http_request",
            "Time to the head of an HTTP answer",
            s,
            metrics.http.clone(),
        );
        r.register(
            "vastrelay_refusals",
            "Requests refused, by reason",
            metrics.refusals.clone(),
        );
        r.register(
            "vastrelay_reused_tokens",
            "Prompt tokens found in the cache",
            metrics.reused.clone(),
        );
        r.register(
            "vastrelay_departures",
            "Calls whose caller went away before the end",
            metrics.gone.clone(),
        );
        registry.register_collector(Box::new(Engines {
            models,
            active_calls,
            lost,
        }));
        Metrics { registry, ..metrics }
    }

    /// Counts a first token. Durations in seconds.
    pub fn first_token(&self, endpoint: &str, model: &str, ttft: f64) {
        self.ttft.get_or_create(&call_labels(endpoint, model)).observe(ttft);
    }

    /// Counts a gap between tokens.
    pub fn gap(&self, model: &str, gap: f64) {
        self.gaps.get_or_create(&model_labels(model)).observe(gap);
    }

    /// Counts a request that was turned away.
    pub fn refused(&self, model: &str, reason: &str) {
        let labels = RefusalLabels {
            model: model.into(),
            reason: reason.into(),
        };
        self.refusals.get_or_create(&labels).inc();
    }

    /// Counts a call that has ended.
    pub fn ended(&self, call: &EndedCall<'_>) {
        let CallLabels {
            gen_ai_operation_name,
            gen_ai_request_model,
        } = call_labels(call.endpoint, call.model);
        let end = EndLabels {
            gen_ai_operation_name,
            gen_ai_request_model: gen_ai_request_model.clone(),
            error_type: call.error.into(),
        };
        self.duration.get_or_create(&end).observe(call.total);
        if !call.error.is_empty() {
            return;
        }
        if call.client_gone {
            self.gone.get_or_create(&model_labels(call.model)).inc();
        }
        if call.output_tokens > 1 {
            let labels = call_labels(call.endpoint, call.model);
            self.output_token.get_or_create(&labels).observe(call.itl_mean);
        }
        self.queued
            .get_or_create(&model_labels(call.model))
            .observe(call.queued);
        let reused = call.reused_tokens as u64;
        self.reused.get_or_create(&model_labels(call.model)).inc_by(reused);
        for (gen_ai_token_type, count) in [("input", call.prompt_tokens), ("output", call.output_tokens)] {
            let labels = TokenLabels {
                gen_ai_operation_name,
                gen_ai_request_model: gen_ai_request_model.clone(),
                gen_ai_token_type,
            };
            self.tokens.get_or_create(&labels).observe(count as f64);
        }
    }

    /// Counts steps.
    pub fn steps(&self, model: &str, steps: &[StepRecord]) {
        for step in steps {
            let has = |kind: RowKind| step.lanes.iter().any(|lane| lane.kind == kind);
            let kind = match (has(RowKind::Prefill), has(RowKind::Decode)) {
                (true, true) => "mixed",
                (true, false) => "prefill",
                _ => "decode",
            };
            let labels = StepLabels {
                model: model.into(),
                kind,
            };
            self.steps.get_or_create(&labels).observe(step.duration);
        }
    }

    /// Counts an HTTP answer.
    pub fn http(&self, route: &str, method: &str, status: u16, seconds: f64) {
        let labels = HttpLabels {
            route: route.into(),
            method: method.into(),
            status,
        };
        self.http.get_or_create(&labels).observe(seconds);
    }
}

fn call_labels(endpoint: &str, model: &str) -> CallLabels {
    CallLabels {
        gen_ai_operation_name: if endpoint == "chat" { "chat" } else { "text_completion" },
        gen_ai_request_model: model.into(),
    }
}

fn model_labels(model: &str) -> ModelLabels {
    ModelLabels { model: model.into() }
}

/// What engines count themselves, read when somebody asks.
struct Engines {
    models: Models,
    active_calls: Arc<AtomicUsize>,
    lost: LostRecords,
}

impl std::fmt::Debug for Engines {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let models = self.models.all();
        f.debug_list()
            .entries(models.iter().map(|replica| &replica.name))
            .finish()
    }
}

impl Collector for Engines {
    fn encode(&self, mut encoder: DescriptorEncoder<'_>) -> Result<(), std::fmt::Error> {
        let running = ConstGauge::new(self.active_calls.load(Ordering::Acquire) as i64);
        let help = "Calls being answered, until the answer is sent";
        running.encode(encoder.encode_descriptor("vastrelay_calls_running", help, None, running.metric_type())?)?;
        let lost = ConstCounter::new(self.lost.count());
        let help = "Records that were lost: there was no room, or the database refused them";
        lost.encode(encoder.encode_descriptor("vastrelay_records_lost", help, None, lost.metric_type())?)?;
        let replicas = self.models.all();
        let models: Vec<(&str, EngineStatus, &Arc<Replica>)> = replicas
            .iter()
            .map(|replica| (replica.name.as_str(), replica.generate.status(), replica))
            .collect();
        type Read = fn(&EngineStatus, &Replica) -> usize;
        let gauges: [(&str, &str, Read); 8] = [
            (
                "vastrelay_queue_depth",
                "Sequences accepted and not in the batch",
                |s, _| s.occupancy.queue_depth,
            ),
            ("vastrelay_queue_limit", "Maximum sequences that may wait", |_, r| {
                r.generate.limits().queue_depth
            }),
            ("vastrelay_lanes_used", "Sequences in the batch", |s, _| {
                s.occupancy.lanes_used
            }),
            ("vastrelay_lanes", "Maximum sequences in a batch", |_, r| {
                r.generate.limits().width
            }),
            ("vastrelay_kv_pages_used", "KV pages held by sequences", |s, _| {
                s.occupancy.pages_used
            }),
            ("vastrelay_kv_pages_cached", "KV pages kept for reuse", |s, _| {
                s.occupancy.pages_cached
            }),
            ("vastrelay_kv_pages", "KV pages in all", |s, _| s.occupancy.pages_total),
            ("vastrelay_failed", "1 when the engine has failed", |s, _| {
                usize::from(s.failure.is_some())
            }),
        ];
        for (name, help, read) in gauges {
            let mut family = encoder.encode_descriptor(name, help, None, ConstGauge::new(0i64).metric_type())?;
            for (model, status, replica) in &models {
                let value = ConstGauge::new(read(status, replica) as i64);
                value.encode(family.encode_family(&[("model", *model)])?)?;
            }
        }
        type Total = fn(&EngineStatus) -> u64;
        let counters: [(&str, &str, Total); 5] = [
            ("vastrelay_prefill_tokens", "Prompt tokens computed", |s| {
                s.prefill_tokens
            }),
            ("vastrelay_output_tokens", "Tokens produced", |s| s.output_tokens),
            ("vastrelay_steps", "Steps", |s| s.steps),
            ("vastrelay_completions", "Completions that ended", |s| s.ended),
            (
                "vastrelay_preemptions",
                "Sequences put back into the queue to free pages",
                |s| s.preemptions,
            ),
        ];
        for (name, help, read) in counters {
            let mut family = encoder.encode_descriptor(name, help, None, ConstCounter::new(0u64).metric_type())?;
            for (model, status, _) in &models {
                let value = ConstCounter::new(read(status));
                value.encode(family.encode_family(&[("model", *model)])?)?;
            }
        }
        let mut family = encoder.encode_descriptor(
            "vastrelay_memory",
            "Memory of the device by owner",
            Some(&Unit::Bytes),
            ConstGauge::new(0i64).metric_type(),
        )?;
        for (model, _, replica) in &models {
            let memory = &replica.memory;
            for (owner, bytes) in [
                ("weights", memory.weights),
                ("kv_pool", memory.kv_pool()),
                ("workspace", memory.workspace),
            ] {
                let value = ConstGauge::new(bytes as i64);
                value.encode(family.encode_family(&[("model", *model), ("owner", owner)])?)?;
            }
        }
        Ok(())
    }
}
