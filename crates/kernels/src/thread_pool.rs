//! A persistent pool of threads that shares out the parts of one operation.
//!
//! A step of a small model is shorter than waking a thread, so workers spin briefly before they sleep. The pool spins
//! only on the cores that its owner was given, and not at all while it shares them with others.

use std::any::Any;
use std::cell::Cell;
use std::marker::PhantomData;
use std::panic::{AssertUnwindSafe, catch_unwind, resume_unwind};
use std::sync::atomic::{AtomicBool, AtomicU64, AtomicUsize, Ordering};
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};

/// How long a thread looks for what it waits for before it sleeps.
const SPIN_TIME: Duration = Duration::from_micros(50);
/// Looks between two at the clock.
const LOOKS: u32 = 64;

/// Whether threads that wait for one another spin before they sleep. Clones say the same.
#[derive(Clone, Debug)]
pub struct Spinning(Arc<AtomicBool>);

impl Default for Spinning {
    fn default() -> Spinning {
        Spinning(Arc::new(AtomicBool::new(true)))
    }
}

impl Spinning {
    /// Says whether they do from now on: the cores are theirs alone, or they are not.
    pub fn set(&self, spins: bool) {
        self.0.store(spins, Ordering::Relaxed);
    }

    /// Looks until something is ready, for some tens of microseconds where threads spin, else once. Returns whether it is.
    pub fn look_for(&self, mut is_ready: impl FnMut() -> bool) -> bool {
        if is_ready() {
            return true;
        }
        if !self.0.load(Ordering::Relaxed) {
            return false;
        }
        let begun = Instant::now();
        loop {
            for _ in 0..LOOKS {
                if is_ready() {
                    return true;
                }
                std::hint::spin_loop();
            }
            if begun.elapsed() >= SPIN_TIME {
                return false;
            }
        }
    }
}

/// Threads that run the tasks of one job at a time, the caller's thread among them.
///
/// A pool belongs to one thread at a time (it is not [`Sync`]), and a task cannot start another job on it.
pub struct ThreadPool {
    shared: Arc<Shared>,
    workers: Vec<JoinHandle<()>>,
    one_owner: PhantomData<Cell<()>>,
}

struct Shared {
    /// Counts jobs; a worker that sees a new value takes part in the job once.
    epoch: AtomicU64,
    job: Mutex<Option<Job>>,
    wake: Condvar,
    /// The next task that nobody has taken.
    next: AtomicUsize,
    /// Workers that have not finished with the current job.
    busy: AtomicUsize,
    /// Whether the owner sleeps until they have.
    owner_sleeps: AtomicBool,
    done: Condvar,
    stop: AtomicBool,
    panic: Mutex<Option<Box<dyn Any + Send>>>,
    spinning: Spinning,
}

#[derive(Clone, Copy)]
struct Job {
    task: &'static (dyn Fn(usize) + Sync),
    count: usize,
}

impl ThreadPool {
    /// Returns a pool over `cores` cores (at least one) that it has alone: the caller's thread and `cores - 1` of its own.
    ///
    /// # Panics
    /// When the operating system refuses a thread.
    pub fn new(cores: usize) -> ThreadPool {
        ThreadPool::spinning(cores, Spinning::default())
    }

    /// As [`ThreadPool::new`], for cores that it may share: somebody else says whether it spins.
    ///
    /// # Panics
    /// As there.
    pub fn spinning(cores: usize, spinning: Spinning) -> ThreadPool {
        let shared = Arc::new(Shared {
            epoch: AtomicU64::new(0),
            job: Mutex::new(None),
            wake: Condvar::new(),
            next: AtomicUsize::new(0),
            busy: AtomicUsize::new(0),
            owner_sleeps: AtomicBool::new(false),
            done: Condvar::new(),
            stop: AtomicBool::new(false),
            panic: Mutex::new(None),
            spinning,
        });
        let workers = (1..cores.max(1))
            .map(|core| {
                let shared = shared.clone();
                std::thread::Builder::new()
                    .name(format!("kernel-{core}"))
                    .spawn(move || work(&shared))
                    .expect("the system gives a thread for each core")
            })
            .collect();
        ThreadPool {
            shared,
            workers,
            one_owner: PhantomData,
        }
    }

    /// Returns the number of cores the pool uses, the caller's included.
    pub fn cores(&self) -> usize {
        self.workers.len() + 1
    }

    /// Runs `task(0) … task(count - 1)`, each once, in any order and on any of the cores; returns when all are done.
    ///
    /// # Panics
    /// When a task panics, after the others have ended.
    pub fn run(&self, count: usize, task: &(dyn Fn(usize) + Sync)) {
        if self.workers.is_empty() || count <= 1 {
            (0..count).for_each(task);
            return;
        }
        // SAFETY: the reference outlives its use, because this function returns only after `busy` has come back to
        // zero, and a worker touches the job only before it lowers `busy`.
        let task: &'static (dyn Fn(usize) + Sync) = unsafe { std::mem::transmute(task) };
        let shared = &*self.shared;
        let job = Job { task, count };
        {
            let mut slot = lock(&shared.job);
            *slot = Some(job);
            shared.next.store(0, Ordering::Relaxed);
            shared.busy.store(self.workers.len(), Ordering::Relaxed);
            shared.epoch.fetch_add(1, Ordering::Release);
        }
        shared.wake.notify_all();
        shared.take_part(job);
        shared.wait_for_workers();
        if let Some(panic) = lock(&shared.panic).take() {
            resume_unwind(panic);
        }
    }
}

impl Drop for ThreadPool {
    fn drop(&mut self) {
        {
            let _slot = lock(&self.shared.job);
            self.shared.stop.store(true, Ordering::Release);
            self.shared.epoch.fetch_add(1, Ordering::Release);
        }
        self.shared.wake.notify_all();
        for worker in self.workers.drain(..) {
            let _ = worker.join();
        }
    }
}

impl Shared {
    fn take_part(&self, job: Job) {
        let outcome = catch_unwind(AssertUnwindSafe(|| {
            loop {
                let index = self.next.fetch_add(1, Ordering::Relaxed);
                if index >= job.count {
                    break;
                }
                (job.task)(index);
            }
        }));
        if let Err(panic) = outcome {
            lock(&self.panic).get_or_insert(panic);
        }
    }

    /// Waits until no worker is busy: spins for a while, then sleeps, as another program may have the core that a worker needs.
    fn wait_for_workers(&self) {
        let is_done = || self.busy.load(Ordering::SeqCst) == 0;
        if self.spinning.look_for(is_done) {
            return;
        }
        let mut slot = lock(&self.job);
        // A worker that is done later sees this; one that was done before is seen by the next look.
        self.owner_sleeps.store(true, Ordering::SeqCst);
        while !is_done() {
            slot = self.done.wait(slot).unwrap_or_else(PoisonError::into_inner);
        }
        self.owner_sleeps.store(false, Ordering::SeqCst);
    }

    /// Notes that a worker has finished with the current job.
    fn finish(&self) {
        if self.busy.fetch_sub(1, Ordering::SeqCst) == 1 && self.owner_sleeps.load(Ordering::SeqCst) {
            // The owner holds the lock until it sleeps.
            drop(lock(&self.job));
            self.done.notify_one();
        }
    }

    /// Returns the epoch once it differs from `seen`: spins for a while, then sleeps.
    fn wait_for_change(&self, seen: u64) -> u64 {
        if self.spinning.look_for(|| self.epoch.load(Ordering::Acquire) != seen) {
            return self.epoch.load(Ordering::Acquire);
        }
        let mut slot = lock(&self.job);
        loop {
            let epoch = self.epoch.load(Ordering::Acquire);
            if epoch != seen {
                return epoch;
            }
            slot = self.wake.wait(slot).unwrap_or_else(PoisonError::into_inner);
        }
    }
}

fn work(shared: &Shared) {
    let mut seen = 0;
    loop {
        seen = shared.wait_for_change(seen);
        if shared.stop.load(Ordering::Acquire) {
            return;
        }
        let job = *lock(&shared.job);
        if let Some(job) = job {
            shared.take_part(job);
        }
        shared.finish();
    }
}

/// Locks, and carries on where another thread has panicked: the data under these locks is whole at every moment.
fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

/// A mutable slice whose parts are written by several tasks at once.
///
/// The borrow keeps the slice from being used otherwise; that no two tasks touch one element is the caller's promise.
pub(crate) struct Shared2d<'a, T> {
    start: *mut T,
    len: usize,
    borrow: PhantomData<&'a mut [T]>,
}

// SAFETY: the only access is through `part`, whose contract makes concurrent parts disjoint.
unsafe impl<T: Send> Sync for Shared2d<'_, T> {}

impl<'a, T> Shared2d<'a, T> {
    pub(crate) fn new(slice: &'a mut [T]) -> Shared2d<'a, T> {
        Shared2d {
            start: slice.as_mut_ptr(),
            len: slice.len(),
            borrow: PhantomData,
        }
    }

    /// Returns `len` elements from `at` on.
    ///
    /// # Panics
    /// When the part reaches over the end.
    ///
    /// # Safety
    /// No other part that is alive at the same time overlaps this one.
    #[allow(clippy::mut_from_ref)]
    #[inline(always)]
    pub(crate) unsafe fn part(&self, at: usize, len: usize) -> &mut [T] {
        assert!(
            at <= self.len && len <= self.len - at,
            "part {at}+{len} of {}",
            self.len
        );
        // SAFETY: in bounds by the assertion, exclusive by the contract above.
        unsafe { std::slice::from_raw_parts_mut(self.start.add(at), len) }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::sync::atomic::AtomicU32;

    #[test]
    fn every_task_runs_exactly_once_on_any_number_of_cores() {
        for (cores, spins) in [(1, true), (2, true), (5, true), (2, false), (5, false)] {
            let spinning = Spinning::default();
            spinning.set(spins);
            let threads = ThreadPool::spinning(cores, spinning);
            for count in [0, 1, 2, 3, 100] {
                let ran: Vec<AtomicU32> = (0..count).map(|_| AtomicU32::new(0)).collect();
                threads.run(count, &|index| {
                    ran[index].fetch_add(1, Ordering::Relaxed);
                });
                assert!(
                    ran.iter().all(|n| n.load(Ordering::Relaxed) == 1),
                    "{cores} cores, {count} tasks"
                );
            }
        }
    }

    #[test]
    fn a_panicking_task_reaches_the_caller_and_the_pool_lives_on() {
        let threads = ThreadPool::new(3);
        let caught = catch_unwind(AssertUnwindSafe(|| {
            threads.run(8, &|index| assert_ne!(index, 5, "five"))
        }));
        assert!(caught.is_err());
        let sum = AtomicUsize::new(0);
        threads.run(8, &|index| {
            sum.fetch_add(index, Ordering::Relaxed);
        });
        assert_eq!(sum.into_inner(), 28);
    }
}
