//! Gaps between tokens, counted by those who stream: many at a time, and none waits for another.

use prometheus_client::encoding::{EncodeMetric, MetricEncoder, NoLabelSet};
use prometheus_client::metrics::MetricType;
use std::fmt;
use std::sync::atomic::{AtomicU64, Ordering};

/// Upper ends of the buckets, in seconds.
pub const ENDS: [f64; 20] = [
    0.0002, 0.0005, 0.001, 0.0015, 0.002, 0.003, 0.005, 0.0075, 0.01, 0.015, 0.02, 0.03, 0.05, 0.1, 0.2, 0.5, 1.0, 5.0,
    30.0, 120.0,
];

/// A histogram of gaps.
#[derive(Debug)]
pub struct Gaps {
    /// The last one holds what is beyond all ends.
    counts: [AtomicU64; ENDS.len() + 1],
    /// In nanoseconds.
    sum: AtomicU64,
}

impl Default for Gaps {
    fn default() -> Gaps {
        Gaps {
            counts: std::array::from_fn(|_| AtomicU64::new(0)),
            sum: AtomicU64::new(0),
        }
    }
}

impl Gaps {
    /// Counts gaps, in seconds.
    pub fn add(&self, gaps: &[f64]) {
        let (mut counts, mut sum) = ([0; ENDS.len() + 1], 0);
        // Tokens that came together have no time between them.
        for run in gaps.chunk_by(|a, b| a == b) {
            let (gap, times) = (run[0], run.len() as u64);
            counts[ENDS.partition_point(|end| *end < gap)] += times;
            sum += (gap * 1e9) as u64 * times;
        }
        for (count, new) in self.counts.iter().zip(counts).filter(|(_, new)| *new > 0) {
            count.fetch_add(new, Ordering::Relaxed);
        }
        self.sum.fetch_add(sum, Ordering::Relaxed);
    }
}

impl EncodeMetric for Gaps {
    fn encode(&self, mut encoder: MetricEncoder<'_>) -> fmt::Result {
        let ends = ENDS.into_iter().chain([f64::MAX]);
        let buckets: Vec<(f64, u64)> = ends
            .zip(self.counts.iter().map(|count| count.load(Ordering::Relaxed)))
            .collect();
        let count = buckets.iter().map(|(_, count)| count).sum();
        let sum = self.sum.load(Ordering::Relaxed) as f64 / 1e9;
        encoder.encode_histogram::<NoLabelSet>(sum, count, &buckets, None)
    }

    fn metric_type(&self) -> MetricType {
        MetricType::Histogram
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use prometheus_client::encoding::text::encode;
    use prometheus_client::metrics::histogram::Histogram;
    use prometheus_client::registry::Registry;
    use proptest::prelude::*;

    /// Registers nothing but one metric, and returns what is scraped of it.
    fn scraped(metric: impl prometheus_client::registry::Metric) -> String {
        let (mut registry, mut text) = (Registry::default(), String::new());
        registry.register("gap", "Gaps", metric);
        encode(&mut text, &registry).unwrap();
        text
    }

    proptest! {
        /// What is scraped is what the package's own histogram says of the same gaps, but for the last digits of the sum.
        #[test]
        fn it_counts_as_any_histogram(gaps in prop::collection::vec(prop_oneof![Just(0.0), 0.0f64..0.1, 0.0f64..300.0, Just(0.005)], 0..50)) {
            let (ours, theirs) = (Gaps::default(), Histogram::new(ENDS));
            let (some, others) = gaps.split_at(gaps.len() / 2);
            ours.add(some);
            ours.add(others);
            gaps.iter().for_each(|gap| theirs.observe(*gap));
            let rows = |text: String| text.lines().filter(|line| !line.starts_with("gap_sum")).map(str::to_owned).collect::<Vec<_>>();
            let sum = |text: &str| text.lines().find_map(|line| line.strip_prefix("gap_sum ")?.parse::<f64>().ok()).unwrap();
            let (ours, theirs) = (scraped(ours), scraped(theirs));
            prop_assert!((sum(&ours) - sum(&theirs)).abs() < 1e-6);
            prop_assert_eq!(rows(ours), rows(theirs));
        }
    }
}
