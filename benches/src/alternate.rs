//! Limits and subjects in turns.

use crate::Machine;
use crate::statistics::median;
use serde::{Deserialize, Serialize};
use std::sync::LazyLock;
use std::time::{Duration, Instant};
use vastrelay_kernels::{ThreadPool, limits};

/// How often a run whose limits drifted is repeated.
const ATTEMPTS: usize = 3;
/// How long the whole run goes on repeating: what is left then is measured once.
const TIME_TO_REPEAT: Duration = Duration::from_secs(20 * 60);
/// How long the whole run begins cells that no aim is for, so that all of it ends within an hour.
const TIME_FOR_MORE: Duration = Duration::from_secs(45 * 60);
/// Seconds from which a subject is left out.
const TOO_LONG: f64 = 20.0;
/// More than any cache of the machine holds.
const MEMORY: usize = 256 << 20;

/// When the run began.
static BEGUN: LazyLock<Instant> = LazyLock::new(Instant::now);

/// What the machine can do, per second.
#[derive(Clone, Copy, Debug, Default, Deserialize, Serialize)]
pub struct Limits {
    /// Bytes read from memory in a stream.
    pub read: f64,
    /// Operations of 32-bit floats, multiplied and added.
    pub multiply_add: f64,
    /// Operations of bytes, multiplied and added up.
    pub dot_product: f64,
}

/// Measures the limits.
pub struct Gauge {
    machine: Machine,
    threads: ThreadPool,
    memory: Vec<f32>,
}

impl Gauge {
    /// Returns one with its own threads and memory.
    pub fn new(machine: Machine) -> Gauge {
        LazyLock::force(&BEGUN);
        Gauge {
            machine,
            threads: ThreadPool::new(machine.cores),
            memory: vec![1.0; MEMORY / size_of::<f32>()],
        }
    }

    /// Measures all limits once: some 60 ms.
    pub fn measure(&self) -> Limits {
        let Gauge {
            machine,
            threads,
            memory,
        } = self;
        Limits {
            read: rate(|| limits::read(machine.isa, threads, memory)),
            multiply_add: rate(|| limits::multiply_adds(machine.isa, threads, 150_000)),
            dot_product: rate(|| limits::dot_products(machine.isa, threads, 150_000)),
        }
    }
}

fn rate(work: impl FnOnce() -> f64) -> f64 {
    let begun = Instant::now();
    let done = work();
    done / begun.elapsed().as_secs_f64()
}

/// Whether there is time for cells that no aim is for.
pub fn has_time_for_more() -> bool {
    BEGUN.elapsed() < TIME_FOR_MORE
}

/// Something that takes time: does it once and returns the seconds.
pub type Subject<'a> = Box<dyn FnMut() -> f64 + 'a>;

/// What a run of alternations brought.
pub struct Outcome {
    /// Medians of the limits.
    pub limits: Limits,
    /// Of each subject, the seconds of each round; nothing of one that takes too long.
    pub seconds: Vec<Vec<f64>>,
    /// Whether the limits drifted by more than a tenth, even when the run was repeated.
    pub drifted: bool,
}

/// Measures limits and subjects in turns, after one round that warms them up.
pub fn alternate(gauge: &Gauge, rounds: usize, subjects: &mut [Subject<'_>]) -> Outcome {
    let mut outcome = once(gauge, rounds, subjects);
    for _ in 1..ATTEMPTS {
        if !outcome.drifted {
            break;
        }
        if BEGUN.elapsed() > TIME_TO_REPEAT {
            eprintln!("  the machine's limits drifted by more than 10 %; there is no time to repeat");
            break;
        }
        eprintln!("  the machine's limits drifted by more than 10 %; once more");
        outcome = once(gauge, rounds, subjects);
    }
    outcome
}

/// Warms a subject up; returns whether it can be measured again and again. The first time may hold what is done once only.
fn is_quick(subject: &mut Subject<'_>) -> bool {
    subject() < TOO_LONG || subject() < TOO_LONG
}

fn once(gauge: &Gauge, rounds: usize, subjects: &mut [Subject<'_>]) -> Outcome {
    let quick: Vec<bool> = subjects.iter_mut().map(is_quick).collect();
    let mut measured = Vec::with_capacity(rounds);
    let mut seconds = vec![Vec::with_capacity(rounds); subjects.len()];
    for _ in 0..rounds {
        measured.push(gauge.measure());
        let subjects = subjects.iter_mut().zip(&mut seconds).zip(&quick);
        for ((subject, seconds), _) in subjects.filter(|(_, quick)| **quick) {
            seconds.push(subject());
        }
    }
    let of = |limit: fn(&Limits) -> f64| measured.iter().map(limit).collect::<Vec<f64>>();
    let all = [of(|l| l.read), of(|l| l.multiply_add), of(|l| l.dot_product)];
    let drift = |values: &Vec<f64>| {
        let (first, second) = values.split_at(values.len() / 2);
        !first.is_empty() && (median(first) / median(second) - 1.0).abs() > 0.1
    };
    Outcome {
        limits: Limits {
            read: median(&all[0]),
            multiply_add: median(&all[1]),
            dot_product: median(&all[2]),
        },
        drifted: all.iter().any(drift),
        seconds,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use vastrelay_kernels::Isa;

    #[test]
    fn who_takes_too_long_is_tried_twice_and_left_out() {
        let machine = Machine {
            isa: Isa::detect(),
            cores: 1,
            rounds: 3,
        };
        let (mut slow, mut first_slow) = (0, 0);
        let mut subjects: Vec<Subject<'_>> = vec![
            Box::new(|| {
                slow += 1;
                TOO_LONG + 1.0
            }),
            // The first time holds what is done once only.
            Box::new(|| {
                first_slow += 1;
                if first_slow == 1 { TOO_LONG + 1.0 } else { 0.5 }
            }),
        ];
        let outcome = once(&Gauge::new(machine), machine.rounds, &mut subjects);
        drop(subjects);
        assert_eq!(outcome.seconds, [vec![], vec![0.5; 3]]);
        assert_eq!((slow, first_slow), (2, 5));
    }
}
