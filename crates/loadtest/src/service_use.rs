//! The use of the service over a stretch of a run, from several looks at it.

use crate::record::ServiceSample;

/// Looks that are needed to say anything of a stretch.
const LEAST_LOOKS: usize = 4;

/// How full the batch, the queue, the KV pool and the device were.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(crate) struct ServiceUse {
    /// Mean share of lanes in use.
    pub lanes_share: f64,
    /// Share of the looks that found all lanes in use.
    pub full_share: f64,
    /// Most sequences that waited.
    pub deepest_queue: usize,
    /// Largest share of KV pages in use.
    pub pages_share: f64,
    /// Sequences put back into the queue to free pages.
    pub preemptions: u64,
    /// Share of the time that the device was busy.
    pub busy_share: Option<f64>,
}

impl ServiceUse {
    /// Sums looks up, each with its moment in seconds, of an endpoint with so many lanes and pages; `None` for too few looks.
    pub fn of(looks: &[(f64, ServiceSample)], width: usize, pages: usize) -> Option<ServiceUse> {
        if looks.len() < LEAST_LOOKS {
            return None;
        }
        let share = |count: usize, of: usize| count as f64 / of.max(1) as f64;
        let all = || looks.iter().map(|(_, look)| look);
        // A new release or worker counts from zero: its counts are added to those of the last one.
        let pairs = || looks.windows(2).map(|pair| (pair[0].1, pair[1].1));
        let busy: f64 = pairs().map(|(before, after)| (after.busy - before.busy).max(0.0)).sum();
        let grown = pairs().map(|(before, after)| after.preemptions.saturating_sub(before.preemptions));
        let time = looks[looks.len() - 1].0 - looks[0].0;
        Some(ServiceUse {
            lanes_share: share(all().map(|look| look.lanes_used).sum(), looks.len() * width),
            full_share: share(all().filter(|look| look.lanes_used >= width).count(), looks.len()),
            deepest_queue: all().map(|look| look.queue_depth).max().unwrap_or(0),
            pages_share: share(all().map(|look| look.pages_used).max().unwrap_or(0), pages),
            preemptions: grown.sum(),
            busy_share: (time > 0.0).then(|| (busy / time).min(1.0)),
        })
    }
}
