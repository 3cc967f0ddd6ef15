//! Loops of the service, each with one purpose. A panic in a loop is logged and counted, and restarts that loop with a fresh state; the
//! other loops run on.

use prometheus_client::encoding::EncodeLabelSet;
use prometheus_client::metrics::counter::Counter;
use prometheus_client::metrics::family::Family;
use std::any::Any;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;
use tokio::task::JoinHandle;
use tokio::time::{MissedTickBehavior, interval};
use vastrelay_wire::manage::LoopStatus;

#[derive(Clone, Debug, PartialEq, Eq, Hash, EncodeLabelSet)]
pub(crate) struct LoopLabels {
    name: String,
}

/// The loops of a service, with the restarts of each.
#[derive(Default)]
pub struct Loops {
    all: Mutex<Vec<LoopStatus>>,
    restarts: Family<LoopLabels, Counter>,
}

/// Loops that run until this is dropped.
#[derive(Default)]
pub(crate) struct Running {
    tasks: Vec<JoinHandle<()>>,
}

impl Loops {
    /// Returns the restarts of each loop as a metric that keeps counting.
    pub(crate) fn restarts(&self) -> Family<LoopLabels, Counter> {
        self.restarts.clone()
    }

    /// Returns every loop, in the order in which they began.
    pub(crate) fn status(&self) -> Vec<LoopStatus> {
        self.lock().clone()
    }

    /// Runs a step at an interval, on this thread between other tasks. `make` returns the step's state, at first and after each panic.
    ///
    /// # Panics
    /// Outside of a local task set.
    pub(crate) fn start<S: 'static>(
        self: &Arc<Self>,
        running: &mut Running,
        name: &'static str,
        every: Duration,
        make: impl Fn() -> S + 'static,
        step: impl Fn(&mut S) + 'static,
    ) {
        self.add(name);
        let loops = self.clone();
        running.tasks.push(tokio::task::spawn_local(async move {
            let mut ticks = interval(every);
            ticks.set_missed_tick_behavior(MissedTickBehavior::Delay);
            let mut state = None;
            loop {
                ticks.tick().await;
                if !loops.guard(name, || step(state.get_or_insert_with(&make))) {
                    state = None;
                }
            }
        }));
    }

    /// Runs work for a loop; returns whether it ended without a panic. A panic counts as a restart of the loop.
    pub(crate) fn guard(&self, name: &'static str, work: impl FnOnce()) -> bool {
        let done = catch_unwind(AssertUnwindSafe(work));
        if let Err(panic) = &done {
            let why = text_of(panic.as_ref());
            tracing::error!(name, why, "a loop panicked and restarts");
            self.note_restart(name, why);
        }
        done.is_ok()
    }

    /// Notes the panic of a loop that survived it.
    pub(crate) fn note_restart(&self, name: &'static str, why: String) {
        self.restarts.get_or_create(&LoopLabels { name: name.into() }).inc();
        if let Some(status) = self.lock().iter_mut().find(|status| status.name == name) {
            status.restarts += 1;
            status.why = Some(why);
        }
    }

    /// Adds a loop that runs elsewhere and says by [`Loops::note_restart`] when it has panicked.
    pub(crate) fn add(&self, name: &'static str) {
        drop(self.restarts.get_or_create(&LoopLabels { name: name.into() }));
        self.lock().push(LoopStatus {
            name: name.into(),
            restarts: 0,
            why: None,
        });
    }

    fn lock(&self) -> std::sync::MutexGuard<'_, Vec<LoopStatus>> {
        self.all.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Drop for Running {
    fn drop(&mut self) {
        self.tasks.iter().for_each(JoinHandle::abort);
    }
}

/// Returns the text of a panic.
fn text_of(panic: &(dyn Any + Send)) -> String {
    let text = panic.downcast_ref::<&str>().map(|text| (*text).to_owned());
    text.or_else(|| panic.downcast_ref::<String>().cloned())
        .unwrap_or_else(|| "it said nothing".into())
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::cell::RefCell;
    use std::rc::Rc;

    #[actix_web::test]
    async fn a_loop_that_panics_restarts_and_the_others_run_on() {
        let loops = Arc::new(Loops::default());
        let mut running = Running::default();
        let steps: Rc<RefCell<Vec<u32>>> = Rc::default();
        let (seen, other) = (steps.clone(), Rc::new(RefCell::new(0)));
        let counted = other.clone();
        let every = Duration::from_millis(1);
        loops.start(
            &mut running,
            "counting",
            every,
            || 0,
            move |count: &mut u32| {
                *count += 1;
                seen.borrow_mut().push(*count);
                assert!(*count < 3, "three are too many");
            },
        );
        loops.start(
            &mut running,
            "waiting",
            every,
            || (),
            move |()| *counted.borrow_mut() += 1,
        );
        while steps.borrow().len() < 7 || *other.borrow() < 7 {
            tokio::task::yield_now().await;
        }
        assert_eq!(steps.borrow()[..7], [1, 2, 3, 1, 2, 3, 1]);
        let [counting, waiting] = loops.status().try_into().unwrap();
        assert!(counting.restarts >= 2 && counting.why.is_some_and(|why| why.contains("three are too many")));
        assert_eq!((waiting.restarts, waiting.why), (0, None));
        drop(running);
        let ended = steps.borrow().len();
        for _ in 0..10 {
            tokio::task::yield_now().await;
        }
        assert_eq!(steps.borrow().len(), ended);
    }
}
