//! What the last seconds were like.

use hdrhistogram::Histogram;
use std::collections::VecDeque;
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};
use vastrelay_wire::manage::{Spread, WindowFigures};

/// Seconds that the window spans.
const WINDOW: usize = 10;
/// Longest duration that is told from longer ones, in microseconds: an hour.
const LONGEST: u64 = 3_600_000_000;

/// Durations and counts of a replica over the last seconds.
pub struct Recent(Mutex<Window>);

impl Default for Recent {
    fn default() -> Recent {
        Recent(Mutex::new(Window::new(Instant::now())))
    }
}

impl Recent {
    /// Notes something.
    pub fn note(&self, what: Noted) {
        self.lock().note(Instant::now(), what);
    }

    /// Notes gaps between tokens, in seconds.
    pub fn gaps(&self, gaps: &[f64], now: Instant) {
        let mut window = self.lock();
        window.untaken.gaps(gaps);
        window.slot(now).heard.gaps(gaps);
    }

    /// Notes an engine's totals, so that rates span the window whenever somebody asks.
    pub fn note_totals(&self, prefill: u64, output: u64) {
        self.lock().rates(Instant::now(), prefill, output);
    }

    /// Returns what was noted since this was asked last.
    pub fn take(&self) -> Stretch {
        std::mem::take(&mut self.lock().untaken)
    }

    fn lock(&self) -> MutexGuard<'_, Window> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// Returns the figures of several replicas together, whose engines have by now computed and produced so many tokens.
pub fn window_metrics<'a>(replicas: impl Iterator<Item = (&'a Recent, (u64, u64))>) -> WindowFigures {
    let (now, mut heard, mut sum) = (Instant::now(), Stretch::default(), WindowFigures::default());
    for (recent, (prefill, output)) in replicas {
        let mut window = recent.lock();
        heard.add(&window.heard(now));
        let (seconds, prefill_rate, output_rate) = window.rates(now, prefill, output);
        sum.seconds = sum.seconds.max(seconds);
        sum.prefill_rate += prefill_rate;
        sum.output_rate += output_rate;
    }
    WindowFigures {
        answered: heard.answered,
        refused: heard.refused,
        ttft: spread(&heard.ttft),
        itl: spread(&heard.itl),
        ..sum
    }
}

/// Something that happened. Durations in seconds.
#[derive(Clone, Copy, Debug)]
pub enum Noted {
    /// A first token, after so many seconds.
    FirstToken(f64),
    /// An answer.
    Answered,
    /// A refusal.
    Refused,
}

struct Window {
    start: Instant,
    slots: VecDeque<Slot>,
    /// The engine's totals, each at the moment when somebody looked.
    totals: VecDeque<(Instant, u64, u64)>,
    /// What nobody has taken yet to keep it.
    untaken: Stretch,
}

/// One second.
struct Slot {
    second: u64,
    heard: Stretch,
}

/// Measurements over a stretch of time.
pub struct Stretch {
    ttft: Histogram<u32>,
    itl: Histogram<u32>,
    /// Calls that ended well.
    pub answered: u64,
    /// Calls that were refused or failed.
    pub refused: u64,
}

impl Window {
    fn new(now: Instant) -> Window {
        Window {
            start: now,
            slots: VecDeque::new(),
            totals: VecDeque::new(),
            untaken: Stretch::default(),
        }
    }

    fn note(&mut self, now: Instant, what: Noted) {
        self.untaken.note(what);
        self.slot(now).heard.note(what);
    }

    /// Returns the slot of this second, after dropping those that are too old.
    fn slot(&mut self, now: Instant) -> &mut Slot {
        self.forget(now);
        let second = now.duration_since(self.start).as_secs();
        if self.slots.back().is_none_or(|slot| slot.second < second) {
            self.slots.push_back(Slot {
                second,
                heard: Stretch::default(),
            });
        }
        self.slots.back_mut().expect("one was pushed")
    }

    fn forget(&mut self, now: Instant) {
        let second = now.duration_since(self.start).as_secs();
        while self
            .slots
            .front()
            .is_some_and(|slot| slot.second + WINDOW as u64 <= second)
        {
            self.slots.pop_front();
        }
    }

    /// Returns what was noted in it.
    fn heard(&mut self, now: Instant) -> Stretch {
        self.forget(now);
        let mut heard = Stretch::default();
        self.slots.iter().for_each(|slot| heard.add(&slot.heard));
        heard
    }

    /// Returns over how many seconds, and how many tokens a second were computed and produced in them.
    fn rates(&mut self, now: Instant, prefill: u64, output: u64) -> (f64, f64, f64) {
        let age = |at: &Instant| now.duration_since(*at);
        while self
            .totals
            .get(1)
            .is_some_and(|(at, ..)| age(at) >= Duration::from_secs(WINDOW as u64))
        {
            self.totals.pop_front();
        }
        if self
            .totals
            .back()
            .is_none_or(|(at, ..)| age(at) >= Duration::from_millis(200))
        {
            self.totals.push_back((now, prefill, output));
        }
        let Some((at, first_prefill, first_output)) = self.totals.front() else {
            return (0.0, 0.0, 0.0);
        };
        let seconds = age(at).as_secs_f64();
        let rate = |from: u64, to: u64| {
            if seconds > 0.0 {
                (to - from) as f64 / seconds
            } else {
                0.0
            }
        };
        (
            seconds.min(WINDOW as f64),
            rate(*first_prefill, prefill),
            rate(*first_output, output),
        )
    }
}

impl Default for Stretch {
    fn default() -> Stretch {
        Stretch {
            ttft: durations(),
            itl: durations(),
            answered: 0,
            refused: 0,
        }
    }
}

impl Stretch {
    fn note(&mut self, what: Noted) {
        match what {
            Noted::FirstToken(seconds) => self.ttft.saturating_record(microseconds(seconds)),
            Noted::Answered => self.answered += 1,
            Noted::Refused => self.refused += 1,
        }
    }

    fn gaps(&mut self, gaps: &[f64]) {
        // Tokens that came together have no time between them.
        for run in gaps.chunk_by(|a, b| a == b) {
            self.itl.saturating_record_n(microseconds(run[0]), run.len() as u32);
        }
    }

    /// Adds what was noted over another stretch.
    pub fn add(&mut self, other: &Stretch) {
        self.ttft.add(&other.ttft).expect("equal bounds");
        self.itl.add(&other.itl).expect("equal bounds");
        self.answered += other.answered;
        self.refused += other.refused;
    }

    /// Returns p50, p95 and p99 of the times to first token, in seconds.
    pub fn ttft(&self) -> Option<[f64; 3]> {
        percentiles(&self.ttft)
    }

    /// Returns p50, p95 and p99 of the gaps between tokens, in seconds.
    pub fn itl(&self) -> Option<[f64; 3]> {
        percentiles(&self.itl)
    }
}

fn percentiles(histogram: &Histogram<u32>) -> Option<[f64; 3]> {
    let spread = spread(histogram);
    (spread.count > 0).then_some([spread.p50, spread.p95, spread.p99])
}

fn durations() -> Histogram<u32> {
    Histogram::new_with_bounds(1, LONGEST, 2).expect("the bounds are in order")
}

fn microseconds(seconds: f64) -> u64 {
    (seconds * 1e6) as u64
}

fn spread(histogram: &Histogram<u32>) -> Spread {
    if histogram.is_empty() {
        return Spread::default();
    }
    let at = |quantile: f64| histogram.value_at_quantile(quantile) as f64 / 1e6;
    Spread {
        count: histogram.len(),
        p50: at(0.5),
        p90: at(0.9),
        p95: at(0.95),
        p99: at(0.99),
        max: histogram.max() as f64 / 1e6,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn figures_span_the_window_and_no_more() {
        let start = Instant::now();
        let mut window = Window::new(start);
        let at = |seconds: f64| start + Duration::from_secs_f64(seconds);
        let mut gaps = |at: Instant, gaps: &[f64]| {
            window.untaken.gaps(gaps);
            window.slot(at).heard.gaps(gaps);
        };
        gaps(at(0.5), &[9.0]);
        for n in 1..=100 {
            gaps(at(5.0), &[f64::from(n) / 1000.0]);
        }
        window.note(at(5.5), Noted::Refused);
        window.rates(at(1.0), 100, 1_000);
        let heard = window.heard(at(10.6));
        let itl = spread(&heard.itl);
        assert_eq!((itl.count, heard.refused, heard.answered), (100, 1, 0));
        assert!(
            (itl.p50 - 0.05).abs() < 0.002 && (itl.max - 0.1).abs() < 0.002,
            "{itl:?}"
        );
        let (_, prefill_rate, output_rate) = window.rates(at(10.6), 196, 1_960);
        assert!((output_rate - 100.0).abs() < 1e-6 && (prefill_rate - 10.0).abs() < 1e-6);
        assert_eq!(spread(&window.heard(at(30.0)).itl), Spread::default());
        assert_eq!((window.untaken.itl.len(), window.untaken.refused), (101, 1));
        window.rates(at(30.0), 196, 1_960);
        let (.., later) = window.rates(at(31.0), 196, 1_960);
        assert!(later < 1e-9, "{later}");
    }

    #[test]
    fn replicas_are_added_up_before_percentiles_are_taken() {
        let (slow, fast) = (Recent::default(), Recent::default());
        slow.gaps(&[0.9; 10], Instant::now());
        fast.gaps(&[0.1; 90], Instant::now());
        let window_metrics = window_metrics([(&slow, (0, 0)), (&fast, (0, 0))].into_iter());
        assert_eq!(window_metrics.itl.count, 100);
        assert!((window_metrics.itl.p50 - 0.1).abs() < 0.01 && (window_metrics.itl.p95 - 0.9).abs() < 0.01);
    }
}
