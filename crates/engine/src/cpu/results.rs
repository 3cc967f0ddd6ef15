//! What the shards say of the step under way, until all have said something.

use crate::executor::{ExecutorError, Report, StepResult};
use std::sync::{Mutex, PoisonError};

/// Why a shard did not finish a step.
pub(super) enum Failure {
    Here(String),
    Elsewhere,
}

/// The step under way.
#[derive(Default)]
pub(super) struct Results(Mutex<Step>);

#[derive(Default)]
struct Step {
    /// Who hears of its end; nobody while there is no step.
    report: Option<Report>,
    /// Shards that have not said anything.
    missing: usize,
    result: Option<StepResult>,
    failure: Option<String>,
}

impl Results {
    /// Begins to wait for so many shards; returns whether no step was under way.
    pub fn expect(&self, shards: usize, report: &Report) -> bool {
        let mut step = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if step.report.is_some() {
            return false;
        }
        *step = Step {
            report: Some(report.clone()),
            missing: shards,
            result: None,
            failure: None,
        };
        true
    }

    /// Takes what a shard says, the first shard's result being that of all; the last to say something reports.
    pub fn take(&self, shard: usize, said: Result<StepResult, Failure>) {
        let mut step = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        match said {
            Ok(result) if shard == 0 => step.result = Some(result),
            Ok(_) => {}
            Err(Failure::Here(reason)) => step.failure = Some(reason),
            Err(Failure::Elsewhere) => {
                step.failure.get_or_insert_with(|| "another shard has failed".into());
            }
        }
        step.missing = step.missing.saturating_sub(1);
        if step.missing > 0 {
            return;
        }
        let Step {
            report,
            result,
            failure,
            ..
        } = std::mem::take(&mut *step);
        drop(step);
        let result = match (failure, result) {
            (None, Some(result)) => Ok(result),
            (failure, _) => Err(ExecutorError(failure.unwrap_or_else(|| "it has no shard".into()))),
        };
        if let Some(report) = report {
            report(result);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::sync::{Arc, mpsc};

    #[test]
    fn a_step_ends_when_its_last_shard_has_and_until_then_there_is_no_other() {
        let (outbox, inbox) = mpsc::channel();
        let report: Report = Arc::new(move |result: Result<StepResult, _>| drop(outbox.send(result.map(|_| ()))));
        let results = Results::default();
        assert!(results.expect(2, &report) && !results.expect(2, &report));
        results.take(1, Ok(StepResult::default()));
        assert!(inbox.try_recv().is_err() && !results.expect(2, &report));
        results.take(0, Ok(StepResult::default()));
        assert!(inbox.try_recv().unwrap().is_ok());
        // What broke is told, not what broke because of it.
        assert!(results.expect(2, &report));
        results.take(0, Err(Failure::Here("no memory".into())));
        results.take(1, Err(Failure::Elsewhere));
        assert_eq!(inbox.try_recv().unwrap().unwrap_err().0, "no memory");
    }
}
