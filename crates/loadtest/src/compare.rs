//! Which differences between two runs are real?

use crate::record::RequestRecord;
use crate::run::Run;
use crate::statistics::{mean, quantile_of, ratio_interval};
use serde::Serialize;
use serde_json::Value;
use std::collections::BTreeMap;

/// Two runs side by side.
#[derive(Clone, Debug, Serialize)]
pub struct Comparison {
    /// Names of both.
    pub names: (String, String),
    /// What was measured.
    pub figures: Vec<Figure>,
    /// What differs between the set-ups and the workloads.
    pub differences: Vec<Difference>,
    /// What makes the comparison doubtful.
    pub warnings: Vec<String>,
}

/// One figure of both runs.
#[derive(Clone, Debug, Serialize)]
pub struct Figure {
    /// Its name.
    pub name: &'static str,
    /// Its unit.
    pub unit: Unit,
    /// Of the first run.
    pub a: f64,
    /// Of the second.
    pub b: f64,
    /// The second over the first.
    pub ratio: f64,
    /// Where 95 of 100 resamplings have the ratio.
    pub interval: Option<(f64, f64)>,
    /// What that means.
    pub verdict: Verdict,
}

/// What a figure is measured in.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Unit {
    /// Seconds; less is better.
    Seconds,
    /// Tokens a second; more is better.
    TokensPerSecond,
}

/// What a difference means.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Verdict {
    /// The second run is really better.
    Better,
    /// It is really worse.
    Worse,
    /// The interval holds 1: chance alone makes such a difference.
    Noise,
    /// There is too little to tell.
    Unknown,
}

/// One setting that differs.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Difference {
    /// Which.
    pub what: String,
    /// In the first run.
    pub a: String,
    /// In the second.
    pub b: String,
}

/// Values that a resampling draws, over all requests, at most.
const MOST_VALUES: usize = 20_000;

/// Compares two runs.
pub fn compare(a: &Run, b: &Run) -> Comparison {
    type Take = fn(&RequestRecord) -> Vec<f64>;
    let ttft: Take = |request| request.ttft().into_iter().collect();
    let gaps: Take = |request| request.gaps().collect();
    let total: Take = |request| vec![request.total()];
    let user: Take = |request| match request.gaps().sum::<f64>() {
        time if time > 0.0 => vec![request.gaps_us.len() as f64 / time],
        _ => Vec::new(),
    };
    let measured: [(&'static str, Unit, Take, f64); 10] = [
        ("TTFT p50", Unit::Seconds, ttft, 0.5),
        ("TTFT p95", Unit::Seconds, ttft, 0.95),
        ("TTFT p99", Unit::Seconds, ttft, 0.99),
        ("ITL p50", Unit::Seconds, gaps, 0.5),
        ("ITL p95", Unit::Seconds, gaps, 0.95),
        ("ITL p99", Unit::Seconds, gaps, 0.99),
        ("end-to-end p50", Unit::Seconds, total, 0.5),
        ("end-to-end p95", Unit::Seconds, total, 0.95),
        ("end-to-end p99", Unit::Seconds, total, 0.99),
        ("tokens/s per user p50", Unit::TokensPerSecond, user, 0.5),
    ];
    let mut figures: Vec<Figure> = measured
        .into_iter()
        .map(|(name, unit, take, share)| figure(name, unit, &groups(a, take), &groups(b, take), quantile_of(share)))
        .collect();
    figures.push(figure(
        "tokens/s out",
        Unit::TokensPerSecond,
        &each_second(a),
        &each_second(b),
        mean,
    ));
    let differences = differences(a, b);
    Comparison {
        names: (a.name.clone(), b.name.clone()),
        warnings: warnings(a, b, &differences),
        differences,
        figures,
    }
}

/// Returns what is taken of each request that was done, thinned where there is too much.
fn groups(run: &Run, take: impl Fn(&RequestRecord) -> Vec<f64>) -> Vec<Vec<f64>> {
    let done = run.requests.iter().filter(|request| request.error.is_none());
    let mut groups: Vec<Vec<f64>> = done.map(take).filter(|group| !group.is_empty()).collect();
    let every = groups.iter().map(Vec::len).sum::<usize>().div_ceil(MOST_VALUES).max(1);
    if every > 1 {
        let mut count = 0;
        for group in &mut groups {
            group.retain(|_| {
                count += 1;
                count % every == 0
            });
        }
        groups.retain(|group| !group.is_empty());
    }
    groups
}

/// Returns the tokens of each whole second of the run.
fn each_second(run: &Run) -> Vec<Vec<f64>> {
    let mut seconds = vec![0.0; run.seconds as usize];
    for at in run.requests.iter().flat_map(RequestRecord::token_moments) {
        if let Some(second) = seconds.get_mut(at.max(0.0) as usize) {
            *second += 1.0;
        }
    }
    seconds.into_iter().map(|tokens| vec![tokens]).collect()
}

fn figure(name: &'static str, unit: Unit, a: &[Vec<f64>], b: &[Vec<f64>], of: impl Fn(&mut [f64]) -> f64) -> Figure {
    let (value_a, value_b) = (of(&mut a.concat()), of(&mut b.concat()));
    let interval = ratio_interval(a, b, of);
    let verdict = match interval {
        None => Verdict::Unknown,
        Some((low, high)) if low <= 1.0 && 1.0 <= high => Verdict::Noise,
        Some((low, _)) if (low > 1.0) == (unit == Unit::TokensPerSecond) => Verdict::Better,
        Some(_) => Verdict::Worse,
    };
    Figure {
        name,
        unit,
        a: value_a,
        b: value_b,
        ratio: if value_a > 0.0 { value_b / value_a } else { f64::NAN },
        interval,
        verdict,
    }
}

/// Fields of an endpoint's status that say how it and its replicas stand, not how they are set up.
const STANDING: [&str; 14] = [
    "state",
    "release",
    "occupancy",
    "totals",
    "window",
    "replica",
    "incarnation",
    "uptime",
    "failure",
    "reserved",
    "resident",
    "phase",
    "capacity",
    "budget",
];

fn differences(a: &Run, b: &Run) -> Vec<Difference> {
    let flat = |run: &Run| {
        let mut flat = BTreeMap::new();
        let before = run.setup.before.as_ref();
        let endpoint = before.and_then(|endpoint| serde_json::to_value(endpoint).ok());
        flatten("service", &endpoint.unwrap_or_default(), &mut flat);
        let workload = serde_json::to_value(&run.workload).unwrap_or_default();
        flatten("workload", &workload, &mut flat);
        flat.insert("url".into(), run.setup.url.clone());
        flat.insert("generator cores".into(), run.setup.generator_cores.to_string());
        flat
    };
    let (a, b) = (flat(a), flat(b));
    let names: std::collections::BTreeSet<&String> = a.keys().chain(b.keys()).collect();
    let value = |flat: &BTreeMap<String, String>, name: &String| flat.get(name).cloned().unwrap_or_else(|| "–".into());
    names
        .into_iter()
        .filter(|name| a.get(*name) != b.get(*name))
        .map(|name| Difference {
            what: name.clone(),
            a: value(&a, name),
            b: value(&b, name),
        })
        .collect()
}

/// Returns whether a field is a setting. The `process` of a replica is a process id; that of its memory is a size.
fn is_setting(path: &str, name: &str) -> bool {
    !STANDING.contains(&name) && (name != "process" || path.ends_with(".memory"))
}

fn flatten(path: &str, value: &Value, flat: &mut BTreeMap<String, String>) {
    match value {
        Value::Object(fields) => {
            for (name, value) in fields.iter().filter(|(name, _)| is_setting(path, name)) {
                flatten(&format!("{path}.{name}"), value, flat);
            }
        }
        // Replicas, pools, users in steps.
        Value::Array(values) => {
            for (index, value) in values.iter().enumerate() {
                flatten(&format!("{path}.{}", index + 1), value, flat);
            }
        }
        Value::String(text) => drop(flat.insert(path.into(), text.clone())),
        Value::Null => {}
        other => drop(flat.insert(path.into(), other.to_string())),
    }
}

fn warnings(a: &Run, b: &Run, differences: &[Difference]) -> Vec<String> {
    let mut warnings = Vec::new();
    let differs = |start: &str| differences.iter().any(|difference| difference.what.starts_with(start));
    let instructions = |difference: &Difference| difference.what.ends_with(".instructions");
    if differs("service.simulated") {
        warnings
            .push("one of the runs was made on a simulated device, whose speed is computed and not measured".into());
    }
    if differs("service.device") || differs("generator cores") || differences.iter().any(instructions) {
        warnings.push("the hardware differs: ratios mix it with what was changed on purpose".into());
    }
    if differs("workload.arrival") || differs("workload.prompts") || differs("workload.output") {
        warnings.push("the workloads differ, so the runs did not receive the same requests".into());
    }
    let mean_output =
        |run: &Run| run.requests.iter().map(|r| r.output_tokens).sum::<usize>() as f64 / run.summary.done.max(1) as f64;
    let (length_a, length_b) = (mean_output(a), mean_output(b));
    if (length_a / length_b.max(1e-9) - 1.0).abs() > 0.1 {
        warnings.push(format!("the answers' lengths differ: {length_a:.0} and {length_b:.0} tokens on average; --output with --force-length makes them equal"));
    }
    let (reused_a, reused_b) = (a.summary.reused_share, b.summary.reused_share);
    if (reused_a - reused_b).abs() > 0.05 {
        warnings.push(format!(
            "cache reuse differs: {:.0} % and {:.0} % of prompt tokens",
            reused_a * 100.0,
            reused_b * 100.0
        ));
    }
    for run in [a, b] {
        if run.stopped_early {
            warnings.push(format!("`{}` was stopped early", run.name));
        }
        if run.summary.done < 30 {
            warnings.push(format!(
                "`{}` has only {} answers: too few for p95 and p99",
                run.name, run.summary.done
            ));
        }
        if matches!(run.summary.limit, crate::summary::Limit::Generator) {
            warnings.push(format!("`{}` was limited by the machine that sent the load", run.name));
        }
    }
    warnings
}
