//! Figures for scrapers: `GET /metrics`.
//!
//! Where OpenTelemetry's conventions for generative AI have a name, it is theirs; everything else begins with `vastrelay_`. Histograms
//! and counters belong to a release, gauges to a replica; when one of them goes, its series end.

use crate::lifecycle::run::ServiceRun;
use crate::telemetry::device_metrics::encode_devices;
use prometheus_client::collector::Collector;
use prometheus_client::encoding::{DescriptorEncoder, EncodeLabelSet, EncodeMetric};
use prometheus_client::metrics::MetricType;
use prometheus_client::metrics::counter::ConstCounter;
use prometheus_client::metrics::family::Family;
use prometheus_client::metrics::gauge::ConstGauge;
use prometheus_client::metrics::histogram::Histogram;
use prometheus_client::registry::{Registry, Unit};
use std::collections::BTreeMap;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use vastrelay_control::endpoints::endpoint::Endpoint;
use vastrelay_control::endpoints::registry::Endpoints;
use vastrelay_control::placement::loader::Loader;
use vastrelay_control::replicas::counters;
use vastrelay_control::replicas::counters::{DURATIONS, ReleaseLabels, ReleaseMetrics, Series};
use vastrelay_control::replicas::measured::MeasuredReplica;
use vastrelay_engine::EngineStatus;
use vastrelay_fleet::State;
use vastrelay_serving::Replica;
use vastrelay_store::LostRecords;
use vastrelay_wire::manage::Totals;

#[derive(Clone, Debug, PartialEq, Eq, Hash, EncodeLabelSet)]
struct HttpLabels {
    route: String,
    method: String,
    status: u16,
}

/// Everything that is counted.
pub struct Metrics {
    pub(crate) registry: Registry,
    /// Of calls that reached no endpoint.
    pub(crate) nobody: Arc<ReleaseMetrics>,
    http: Family<HttpLabels, Histogram, fn() -> Histogram>,
}

impl Metrics {
    pub(crate) fn new(
        endpoints: Arc<Endpoints>,
        loader: Arc<Loader>,
        service_run: &ServiceRun,
        lost: LostRecords,
    ) -> Metrics {
        let nobody = Arc::new(ReleaseMetrics::new(ReleaseLabels::default()));
        let durations: fn() -> Histogram = || Histogram::new(DURATIONS);
        let http = Family::new_with_constructor(durations);
        let mut registry = Registry::default();
        registry.register_with_unit(
            "vastrelay_http_request",
            "Time to the head of an HTTP answer",
            Unit::Seconds,
            http.clone(),
        );
        registry.register(
            "vastrelay_loop_restarts",
            "Restarts of the service's loops after panics",
            service_run.loops.restarts(),
        );
        registry.register_collector(Box::new(Served {
            endpoints,
            loader,
            nobody: nobody.clone(),
            active_calls: service_run.active_calls.clone(),
            lost,
        }));
        Metrics { registry, nobody, http }
    }

    /// Counts an HTTP answer.
    pub(crate) fn http(&self, route: &str, method: &str, status: u16, seconds: f64) {
        let labels = HttpLabels {
            route: route.into(),
            method: method.into(),
            status,
        };
        self.http.get_or_create(&labels).observe(seconds);
    }
}

/// The counts of endpoints, read at each scrape.
struct Served {
    endpoints: Arc<Endpoints>,
    loader: Arc<Loader>,
    nobody: Arc<ReleaseMetrics>,
    active_calls: Arc<AtomicUsize>,
    lost: LostRecords,
}

impl std::fmt::Debug for Served {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let endpoints = self.endpoints.all();
        f.debug_list()
            .entries(endpoints.iter().map(|endpoint| &endpoint.name))
            .finish()
    }
}

impl Collector for Served {
    fn encode(&self, mut encoder: DescriptorEncoder<'_>) -> Result<(), std::fmt::Error> {
        let running = ConstGauge::new(self.active_calls.load(Ordering::Acquire) as i64);
        let help = "Calls being answered, until the answer is sent";
        running.encode(encoder.encode_descriptor("vastrelay_calls_running", help, None, running.metric_type())?)?;
        let lost = ConstCounter::new(self.lost.count());
        let help = "Records that were lost: there was no room, or the database refused them";
        lost.encode(encoder.encode_descriptor("vastrelay_records_lost", help, None, lost.metric_type())?)?;
        encode_states(&mut encoder, &self.endpoints)?;
        let endpoints = self.endpoints.all();
        let releases: Vec<&ReleaseMetrics> = endpoints.iter().map(|endpoint| &*endpoint.counters).collect();
        counters::encode(&mut encoder, &releases, &self.nobody)?;
        encode_totals(&mut encoder, &endpoints)?;
        encode_gauges(&mut encoder, &endpoints)?;
        encode_devices(&mut encoder, &self.endpoints, &self.loader)
    }
}

/// Writes in which state endpoints are, served or not.
fn encode_states(encoder: &mut DescriptorEncoder<'_>, endpoints: &Endpoints) -> std::fmt::Result {
    let resting = endpoints.resting().into_iter();
    let mut states: BTreeMap<String, State> = resting.map(|(name, resting)| (name, resting.state)).collect();
    states.extend(
        endpoints
            .all()
            .iter()
            .map(|endpoint| (endpoint.name.clone(), endpoint.replicas.state())),
    );
    let help = "1 for the state that an endpoint is in";
    Series::new(encoder, "vastrelay_endpoint_state", help).write(MetricType::Gauge, |write| {
        states.iter().try_for_each(|(name, state)| {
            let labels = [("endpoint", name.as_str()), ("state", state.name())];
            write(&(labels, &ConstGauge::new(1)))
        })
    })
}

/// Writes what engines count, over all lives of a release's replicas.
fn encode_totals(encoder: &mut DescriptorEncoder<'_>, endpoints: &[Arc<Endpoint>]) -> std::fmt::Result {
    let totals: Vec<(&Endpoint, Totals)> = endpoints
        .iter()
        .map(|endpoint| (&**endpoint, endpoint.replicas.totals()))
        .collect();
    type Read = fn(&Totals) -> u64;
    let counters: [(&str, &str, Read); 5] = [
        ("vastrelay_prefill_tokens", "Prompt tokens computed", |t| {
            t.prefill_tokens
        }),
        ("vastrelay_output_tokens", "Tokens produced", |t| t.output_tokens),
        ("vastrelay_steps", "Steps", |t| t.steps),
        ("vastrelay_completions", "Completions that ended", |t| t.ended),
        (
            "vastrelay_preemptions",
            "Sequences put back into the queue to free pages",
            |t| t.preemptions,
        ),
    ];
    for (name, help, read) in counters {
        Series::new(encoder, name, help).write(MetricType::Counter, |write| {
            totals.iter().try_for_each(|(endpoint, totals)| {
                write(&(endpoint.counters.labels().ours(), &ConstCounter::new(read(totals))))
            })
        })?;
    }
    let help = "Time that devices were in steps of a release: a step over several devices counts for each of them";
    Series::new(encoder, "vastrelay_busy", help)
        .in_unit(&Unit::Seconds)
        .write(MetricType::Counter, |write| {
            totals.iter().try_for_each(|(endpoint, totals)| {
                let devices = match endpoint.device().is_simulated() {
                    true => endpoint.plan.assignment.split,
                    false => 1,
                };
                let busy = ConstCounter::new(totals.busy * devices as f64);
                write(&(endpoint.counters.labels().ours(), &busy))
            })
        })
}

/// So many labels, by name.
type Labels<'a, const N: usize> = [(&'a str, &'a str); N];

/// A replica as gauges see it.
struct Seen {
    measured: Arc<MeasuredReplica>,
    endpoint: Arc<Endpoint>,
    number: String,
    status: EngineStatus,
}

impl Seen {
    /// Returns the labels of its series.
    fn labels(&self) -> (Labels<'_, 4>, Labels<'_, 1>) {
        (self.endpoint.counters.labels().ours(), [("replica", &self.number)])
    }
}

/// Writes how things stand, by replica.
fn encode_gauges(encoder: &mut DescriptorEncoder<'_>, endpoints: &[Arc<Endpoint>]) -> std::fmt::Result {
    let replicas: Vec<Seen> = endpoints
        .iter()
        .flat_map(|endpoint| {
            endpoint.replicas.all().into_iter().map(|measured| Seen {
                endpoint: endpoint.clone(),
                number: measured.replica.number.to_string(),
                status: measured.replica.generate.status(),
                measured,
            })
        })
        .collect();
    type Count = fn(&Endpoint) -> usize;
    let queues: [(&str, &str, Count); 2] = [
        (
            "vastrelay_queue_depth",
            "Sequences accepted and not in the batch",
            |endpoint| endpoint.replicas.queue_depth(),
        ),
        ("vastrelay_queue_limit", "Maximum sequences that may wait", |endpoint| {
            endpoint.limits().queue_depth
        }),
    ];
    for (name, help, read) in queues {
        Series::new(encoder, name, help).write(MetricType::Gauge, |write| {
            endpoints.iter().try_for_each(|endpoint| {
                let value = read(endpoint);
                write(&(endpoint.counters.labels().ours(), &ConstGauge::new(value as i64)))
            })
        })?;
    }
    type Read = fn(&EngineStatus, &Replica) -> usize;
    let gauges: [(&str, &str, Read); 6] = [
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
        Series::new(encoder, name, help).write(MetricType::Gauge, |write| {
            replicas.iter().try_for_each(|seen| {
                let value = read(&seen.status, &seen.measured.replica);
                write(&(seen.labels(), &ConstGauge::new(value as i64)))
            })
        })?;
    }
    Series::new(encoder, "vastrelay_memory", "Memory of the device by owner")
        .in_unit(&Unit::Bytes)
        .write(MetricType::Gauge, |write| {
            replicas.iter().try_for_each(|seen| {
                let memory = &seen.measured.replica.memory;
                let owners = [
                    ("weights", memory.weights),
                    ("kv_pool", memory.kv_pool()),
                    ("workspace", memory.workspace),
                    ("process", memory.process),
                ];
                owners.iter().try_for_each(|(owner, bytes)| {
                    let labels = (seen.labels(), [("owner", *owner)]);
                    write(&(labels, &ConstGauge::new(*bytes as i64)))
                })
            })
        })
}
