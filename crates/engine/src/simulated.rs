//! A stand-in for accelerators that are not here: it takes their time and says tokens of no meaning.
//!
//! A step's time comes in as a function, and so does what occupies the devices for so long. Tokens are drawn evenly from those it is
//! given, by the request's seed, its completion and the position, so that an answer does not depend on its company. The length of an answer
//! is drawn in the same way from a lognormal distribution; then the end token comes.

use crate::executor::{
    BatchRow, Executor, ExecutorError, LogprobsWanted, MemoryReport, Report, RowResult, StepBatch, StepResult, Want,
};
use crate::phases::PhaseTimes;
use crate::sampling::random::Random;
use crate::sampling::{Choice, Chosen};
use crate::token::{TokenLogprob, TokenLogprobs};
use smallvec::smallvec;
use std::f64::consts::TAU;
use std::io;
use std::sync::Arc;
use std::sync::mpsc::{Receiver, SyncSender, sync_channel};
use std::time::{Duration, Instant};

/// Where in a completion's random numbers its length is drawn: beyond all positions.
const LENGTH: u64 = 1 << 62;

/// What a step's time depends on, for each row: tokens, those before them, whether a token is chosen.
pub type StepTime = Box<dyn Fn(&mut dyn Iterator<Item = (usize, usize, bool)>) -> Duration + Send>;
/// Takes the devices for so long, as soon as they are free.
pub type Occupy = Box<dyn FnMut(Duration) + Send>;

/// What is said.
#[derive(Clone, Debug)]
pub struct Speech {
    /// The tokens that are drawn from; at least one.
    pub tokens: Arc<[u32]>,
    /// The token that ends an answer, where there is one.
    pub end: Option<u32>,
    /// The length in the middle of all answers' lengths.
    pub median: f64,
    /// How far lengths spread: the deviation of their logarithm.
    pub sigma: f64,
}

impl Speech {
    /// Returns the token of a choice.
    fn token(&self, choice: &Choice) -> u32 {
        let Choice {
            sampling,
            completion,
            position,
            ..
        } = choice;
        let banned = choice.banned();
        let is_over = *position >= self.length(sampling.seed, *completion);
        if let Some(end) = self.end.filter(|end| is_over && !banned.contains(end)) {
            return end;
        }
        let drawn = Random::new(sampling.seed, *completion, *position).unit();
        let first = (drawn * self.tokens.len() as f64) as usize;
        let from_there = (0..self.tokens.len()).map(|step| self.tokens[(first + step) % self.tokens.len()]);
        let mut allowed = from_there.filter(|token| !banned.contains(token));
        allowed.next().unwrap_or(self.tokens[first])
    }

    /// Returns how many tokens come before the end ("A Note on the Generation of Random Normal Deviates", Box and Muller, 1958).
    fn length(&self, seed: u64, completion: u32) -> u64 {
        let unit = |at: u64| Random::new(seed, completion, LENGTH + at).unit();
        let normal = (-2.0 * (1.0 - unit(0)).ln()).sqrt() * (TAU * unit(1)).cos();
        (self.median * (self.sigma * normal).exp()).round().max(1.0) as u64
    }

    /// Returns the log-probability of each of its tokens.
    fn logprob(&self) -> f32 {
        -(self.tokens.len() as f32).ln()
    }

    /// Returns a token's log-probability, with so many of those in its place: all are as probable.
    fn logprobs(&self, id: u32, top: usize) -> TokenLogprobs {
        let of = |id| TokenLogprob {
            id,
            logprob: self.logprob(),
        };
        let others = self.tokens.iter().filter(|other| **other != id);
        let alternatives = std::iter::once(id).chain(others.copied()).take(top).map(of);
        (of(id), alternatives.collect())
    }
}

/// Runs steps on simulated devices, on a thread that waits for as long as they would take.
pub struct SimulatedExecutor {
    memory: MemoryReport,
    vocabulary: usize,
    steps: SyncSender<(Arc<StepBatch>, Report)>,
}

impl SimulatedExecutor {
    /// Starts its thread.
    ///
    /// # Errors
    /// When the system refuses the thread.
    ///
    /// # Panics
    /// When there is no token to draw.
    pub fn start(
        memory: MemoryReport,
        vocabulary: usize,
        speech: Speech,
        time: StepTime,
        occupy: Occupy,
    ) -> io::Result<SimulatedExecutor> {
        assert!(!speech.tokens.is_empty(), "there is no token to draw");
        let (steps, waiting) = sync_channel(1);
        std::thread::Builder::new()
            .name("simulated".into())
            .spawn(move || run(&waiting, &speech, &time, occupy))?;
        Ok(SimulatedExecutor {
            memory,
            vocabulary,
            steps,
        })
    }
}

impl Executor for SimulatedExecutor {
    fn memory(&self) -> MemoryReport {
        self.memory
    }

    fn vocabulary(&self) -> usize {
        self.vocabulary
    }

    fn submit(&mut self, batch: Arc<StepBatch>, report: &Report) -> Result<(), ExecutorError> {
        let sent = self.steps.try_send((batch, report.clone()));
        sent.map_err(|_| ExecutorError("the step before has not ended".into()))
    }
}

fn run(waiting: &Receiver<(Arc<StepBatch>, Report)>, speech: &Speech, time: &StepTime, mut occupy: Occupy) {
    while let Ok((batch, report)) = waiting.recv() {
        let begun = Instant::now();
        let shape = |row: &BatchRow| (row.tokens.len(), row.start, matches!(row.want, Want::Token(_)));
        let takes = time(&mut batch.rows.iter().map(shape));
        let rows: Result<Vec<RowResult>, ExecutorError> = batch.rows.iter().map(|row| answer(speech, row)).collect();
        occupy(takes.saturating_sub(begun.elapsed()));
        drop(batch);
        report(rows.map(|rows| StepResult {
            rows,
            took: takes,
            phases: PhaseTimes::default(),
        }));
    }
}

fn answer(speech: &Speech, row: &BatchRow) -> Result<RowResult, ExecutorError> {
    let mut result = RowResult::default();
    match &row.want {
        Want::Nothing => {}
        Want::Token(choice) => {
            let id = speech.token(choice);
            result.chosen = smallvec![Chosen {
                id,
                logprobs: choice.top.map(|top| speech.logprobs(id, top)),
            }];
        }
        Want::Logits => return Err(ExecutorError("a simulated device has no logits".into())),
    }
    if let Some(LogprobsWanted { next, top }) = &row.logprobs {
        let after_first = row.tokens.iter().skip(1).chain(next);
        result.logprobs = after_first.map(|id| speech.logprobs(*id, *top)).collect();
    }
    Ok(result)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::executor::run_step;
    use crate::sampling::Sampling;
    use std::sync::Mutex;

    fn speech(median: f64, sigma: f64) -> Speech {
        Speech {
            tokens: (10..110).collect(),
            end: Some(2),
            median,
            sigma,
        }
    }

    fn choice(seed: u64, position: u64) -> Choice {
        Choice {
            sampling: Arc::new(Sampling {
                seed,
                ..Sampling::default()
            }),
            completion: 0,
            position,
            seen: Arc::default(),
            end_ids: Arc::default(),
            may_end_from: 0,
            top: Some(3),
        }
    }

    #[test]
    fn lengths_are_those_that_are_stated() {
        let speech = speech(100.0, 0.5);
        let mut lengths: Vec<u64> = (0..4_001).map(|seed| speech.length(seed, 0)).collect();
        lengths.sort_unstable();
        let at = |share: f64| lengths[(share * 4_000.0) as usize] as f64;
        assert!((at(0.5) / 100.0 - 1.0).abs() < 0.05, "{}", at(0.5));
        // One deviation above the middle are 84 of 100.
        assert!((at(0.8413) / 100.0 / 0.5f64.exp() - 1.0).abs() < 0.07, "{}", at(0.8413));
    }

    #[test]
    fn an_answer_depends_on_its_seed_only_and_ends_unless_it_may_not() {
        let speech = speech(20.0, 0.0);
        let said = |seed| (0..30).map(|at| speech.token(&choice(seed, at))).collect::<Vec<u32>>();
        assert_eq!(said(7), said(7));
        assert_ne!(said(7), said(8));
        assert!(said(7)[..20].iter().all(|token| speech.tokens.contains(token)));
        assert_eq!(said(7)[20], 2);
        let endless = Choice {
            end_ids: Arc::from([2, 10]),
            may_end_from: 26,
            ..choice(7, 25)
        };
        assert!((11..110).contains(&speech.token(&endless)));
    }

    #[test]
    fn a_step_takes_the_devices_for_as_long_as_it_would_last() {
        let occupied = Arc::new(Mutex::new(Vec::new()));
        let noted = occupied.clone();
        let mut executor = SimulatedExecutor::start(
            MemoryReport::default(),
            1_000,
            speech(100.0, 0.0),
            Box::new(|rows| Duration::from_secs(rows.map(|(tokens, start, _)| tokens + start).sum::<usize>() as u64)),
            Box::new(move |time| noted.lock().unwrap().push(time)),
        )
        .unwrap();
        let row = BatchRow {
            tokens: smallvec![5, 6, 7],
            drafts: 0,
            start: 4,
            slot: 0,
            tables: smallvec![],
            whole: None,
            want: Want::Token(choice(1, 0)),
            logprobs: Some(LogprobsWanted { next: None, top: 0 }),
        };
        let batch = StepBatch {
            copies: Vec::new(),
            rows: vec![row],
        };
        let result = run_step(&mut executor, batch).unwrap();
        assert_eq!(result.took, Duration::from_secs(7));
        let occupied = occupied.lock().unwrap()[0];
        assert!(occupied <= result.took && occupied > Duration::from_secs(6));
        let row = &result.rows[0];
        let (chosen, alternatives) = row.chosen[0].logprobs.as_ref().unwrap();
        assert_eq!((chosen.id, alternatives.len()), (row.chosen[0].id, 3));
        assert!((chosen.logprob - 0.01f32.ln()).abs() < 1e-4);
        assert_eq!(
            row.logprobs.iter().map(|(token, _)| token.id).collect::<Vec<_>>(),
            [6, 7]
        );
    }
}
