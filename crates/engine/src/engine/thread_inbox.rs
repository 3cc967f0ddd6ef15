//! The events on their way to the calls of one thread.
//!
//! An engine hands a thread what a step brought for all of its calls at once, with one wake-up; a task of that thread shares it out.
//! So a step costs the engine's thread little, however many calls it serves, and the memory of a call is touched by one thread only.
//! What waits here is bounded by the answers under way: each is of at most a context's length.

use crate::request::Event;
use rustc_hash::FxHashMap;
use std::cell::RefCell;
use std::collections::VecDeque;
use std::future::poll_fn;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::task::{Context, Poll, Waker};
use tokio::runtime::{Handle, Id};

/// Events that a reader may leave unread.
const MOST_UNREAD: usize = 4096;

/// The number of a call among those of its thread.
pub(super) type ReaderNumber = u64;

/// What arrives for a call: an event, or the word that there will be no more.
pub(super) type Arrival = (ReaderNumber, Option<Event>);

/// Where events wait until a thread shares them out to its calls, and until those read them.
pub(super) struct ThreadInbox {
    runtime: Id,
    arrived: Mutex<Arrived>,
    readers: Mutex<Readers>,
}

#[derive(Default)]
struct Arrived {
    all: Vec<Arrival>,
    /// Who shares them out, where it waits for some.
    sharer: Option<Waker>,
    /// Nobody shares them out any more.
    is_over: bool,
}

#[derive(Default)]
struct Readers {
    last: ReaderNumber,
    by_number: FxHashMap<ReaderNumber, Reader>,
}

/// One call.
struct Reader {
    unread: VecDeque<Event>,
    /// Where it waits for some.
    waiting: Option<Waker>,
    /// No more will come.
    is_closed: bool,
    /// It has left too many unread; from then on only the ends of completions come.
    is_slow: bool,
    /// What is done as soon as it is too slow.
    give_up: Box<dyn Fn() + Send>,
}

thread_local! {
    static OWN: RefCell<Option<Arc<ThreadInbox>>> = const { RefCell::new(None) };
}

impl ThreadInbox {
    /// Returns the one of this thread, and of the runtime that drives it.
    ///
    /// # Panics
    /// Outside of a Tokio runtime.
    pub fn own() -> Arc<ThreadInbox> {
        let runtime = Handle::current().id();
        OWN.with_borrow_mut(|own| {
            let usable = own.take().filter(|own| own.runtime == runtime && !own.is_over());
            own.insert(usable.unwrap_or_else(|| ThreadInbox::start(runtime)))
                .clone()
        })
    }

    fn start(runtime: Id) -> Arc<ThreadInbox> {
        let inbox = Arc::new(ThreadInbox {
            runtime,
            arrived: Mutex::default(),
            readers: Mutex::default(),
        });
        let sharing = Sharing(inbox.clone());
        tokio::spawn(async move {
            let mut taken = Vec::new();
            poll_fn(|context| sharing.0.poll_share(context, &mut taken)).await
        });
        inbox
    }

    /// Returns whether nobody shares out any more, as the runtime is gone.
    pub fn is_over(&self) -> bool {
        locked(&self.arrived).is_over
    }

    /// Adds a call; `give_up` is called once if it reads too slowly.
    pub fn enter(&self, give_up: impl Fn() + Send + 'static) -> ReaderNumber {
        let mut readers = locked(&self.readers);
        readers.last += 1;
        let number = readers.last;
        let reader = Reader {
            unread: VecDeque::new(),
            waiting: None,
            is_closed: self.is_over(),
            is_slow: false,
            give_up: Box::new(give_up),
        };
        readers.by_number.insert(number, reader);
        number
    }

    /// Forgets a call, and drops what it has not read.
    pub fn leave(&self, number: ReaderNumber) {
        let left = locked(&self.readers).by_number.remove(&number);
        drop(left);
    }

    /// Takes what has arrived for calls of this thread and leaves `new` empty.
    pub fn put(&self, new: &mut Vec<Arrival>) {
        let mut arrived = locked(&self.arrived);
        if arrived.is_over {
            drop(arrived);
            return new.clear();
        }
        if arrived.all.is_empty() {
            std::mem::swap(&mut arrived.all, new);
        } else {
            arrived.all.append(new);
        }
        let sharer = arrived.sharer.take();
        drop(arrived);
        if let Some(sharer) = sharer {
            sharer.wake();
        }
    }

    /// Shares out what has arrived; `taken` is memory for that. Ready never.
    fn poll_share(&self, context: &mut Context<'_>, taken: &mut Vec<Arrival>) -> Poll<()> {
        loop {
            let mut arrived = locked(&self.arrived);
            std::mem::swap(&mut arrived.all, taken);
            if taken.is_empty() {
                arrived.sharer = Some(context.waker().clone());
                return Poll::Pending;
            }
            drop(arrived);
            let mut readers = locked(&self.readers);
            for (number, event) in taken.drain(..) {
                // One that is not there has left.
                if let Some(reader) = readers.by_number.get_mut(&number) {
                    reader.put(event);
                }
            }
        }
    }

    /// Takes all events of a call in the place of `into`, which has to be empty, as soon as there are any; ready with `false` when
    /// none will come.
    pub fn poll_take(&self, number: ReaderNumber, context: &mut Context<'_>, into: &mut VecDeque<Event>) -> Poll<bool> {
        let mut readers = locked(&self.readers);
        let Some(reader) = readers.by_number.get_mut(&number) else {
            return Poll::Ready(false);
        };
        std::mem::swap(&mut reader.unread, into);
        if !into.is_empty() || reader.is_closed {
            return Poll::Ready(!into.is_empty());
        }
        reader.waiting = Some(context.waker().clone());
        Poll::Pending
    }
}

impl Reader {
    fn put(&mut self, event: Option<Event>) {
        match event {
            None => self.is_closed = true,
            Some(event) => {
                if self.unread.len() >= MOST_UNREAD && !self.is_slow {
                    self.is_slow = true;
                    (self.give_up)();
                }
                if self.is_slow && !matches!(event, Event::Ended { .. }) {
                    return;
                }
                self.unread.push_back(event);
            }
        }
        if let Some(waiting) = self.waiting.take() {
            waiting.wake();
        }
    }
}

/// Held by the task that shares out; when its runtime drops it, nothing comes any more.
struct Sharing(Arc<ThreadInbox>);

impl Drop for Sharing {
    fn drop(&mut self) {
        let mut arrived = locked(&self.0.arrived);
        arrived.is_over = true;
        let left = std::mem::take(&mut arrived.all);
        drop(arrived);
        drop(left);
        for reader in locked(&self.0.readers).by_number.values_mut() {
            reader.put(None);
        }
    }
}

/// What is under these locks is whole at every moment, so it is of use even where another thread has panicked.
fn locked<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::request::EndReason;
    use std::sync::atomic::{AtomicUsize, Ordering};

    fn failed(number: usize) -> Option<Event> {
        Some(Event::Failed(number.to_string()))
    }

    async fn all(inbox: &ThreadInbox, number: ReaderNumber) -> Vec<Option<Event>> {
        let (mut come, mut all) = (VecDeque::new(), Vec::new());
        while poll_fn(|context| inbox.poll_take(number, context, &mut come)).await {
            all.extend(come.drain(..).map(Some));
        }
        all
    }

    #[tokio::test(flavor = "multi_thread", worker_threads = 2)]
    async fn everything_arrives_in_order_however_it_comes() {
        for together in [1, 3, 1000] {
            let inbox = ThreadInbox::own();
            let numbers = [inbox.enter(|| ()), inbox.enter(|| ())];
            let readers = numbers.map(|number| {
                let inbox = inbox.clone();
                tokio::spawn(async move { all(&inbox, number).await })
            });
            let events: Vec<Option<Event>> = (0..1000).map(failed).chain([None]).collect();
            for part in events.chunks(together) {
                for number in numbers {
                    inbox.put(&mut part.iter().map(|event| (number, event.clone())).collect());
                }
            }
            for reader in readers {
                assert_eq!(reader.await.unwrap(), events[..1000]);
            }
        }
    }

    #[tokio::test]
    async fn what_came_before_the_end_is_read_and_nothing_after_a_reader_left() {
        let inbox = ThreadInbox::own();
        let number = inbox.enter(|| ());
        inbox.put(&mut vec![(number, failed(1)), (number, failed(2)), (number, None)]);
        assert_eq!(all(&inbox, number).await, [failed(1), failed(2)]);
        inbox.leave(number);
        inbox.put(&mut vec![(number, failed(3))]);
        tokio::task::yield_now().await;
        assert_eq!(all(&inbox, number).await, []);
    }

    #[tokio::test]
    async fn a_reader_that_leaves_too_many_unread_is_given_up_once_and_gets_but_the_ends() {
        let inbox = ThreadInbox::own();
        let given_up = Arc::new(AtomicUsize::new(0));
        let counter = given_up.clone();
        let number = inbox.enter(move || _ = counter.fetch_add(1, Ordering::Relaxed));
        let end = Some(Event::Ended {
            choice: 0,
            text: "".into(),
            reason: EndReason::SlowReader,
            metrics: Box::default(),
        });
        let events = (0..MOST_UNREAD + 2).map(failed).chain([end.clone(), None]);
        inbox.put(&mut events.map(|event| (number, event)).collect());
        let all = all(&inbox, number).await;
        assert_eq!(given_up.load(Ordering::Relaxed), 1);
        assert_eq!(all.len(), MOST_UNREAD + 1);
        assert_eq!(all.last(), Some(&end));
    }

    #[test]
    fn a_thread_with_another_runtime_has_another_inbox_and_the_calls_of_the_old_one_end() {
        let runtime = || tokio::runtime::Builder::new_current_thread().build().unwrap();
        let first = runtime();
        let old = first.block_on(async { ThreadInbox::own() });
        let number = old.enter(|| ());
        let second = runtime();
        let new = second.block_on(async { ThreadInbox::own() });
        assert!(!Arc::ptr_eq(&old, &new));
        assert!(!old.is_over());
        drop(first);
        assert!(old.is_over());
        assert_eq!(second.block_on(all(&old, number)), []);
    }
}
