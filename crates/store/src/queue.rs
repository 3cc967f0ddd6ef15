//! The queue of the writer: changes, whose callers wait, go before records, which have no waiting caller.

use crate::calls::CallRecord;
use crate::events::EventRecord;
use crate::history::HistoryRecord;
use crate::releases::IncarnationRecord;
use crate::starts::StartRecord;
use rusqlite::Connection;
use std::collections::VecDeque;
use std::mem::take;
use std::sync::mpsc::Sender;
use std::sync::{Condvar, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

/// Most records that wait to be written; more are lost and counted.
const MOST_WAITING: usize = 16_384;
/// Most bytes of records that wait.
const MOST_WAITING_BYTES: usize = 128 << 20;
/// Most records that the writer takes at once.
const BATCH: usize = 512;

/// A record that is committed some time after it was handed over.
pub(crate) enum Record {
    /// A call that was accepted.
    Begun(Box<CallRecord>),
    /// A call that has ended.
    Call(Box<CallRecord>),
    KeyUsed {
        id: String,
        at_ms: i64,
    },
    History(Box<HistoryRecord>),
    Event(Box<EventRecord>),
    Incarnation(Box<IncarnationRecord>),
    Start(Box<StartRecord>),
    /// Sends a message once all records before it are committed.
    Flush(Sender<()>),
}

impl Record {
    /// Returns about how many bytes it takes in the database.
    pub fn bytes(&self) -> usize {
        match self {
            Record::Call(call) | Record::Begun(call) => call.bytes(),
            Record::Event(event) => 100 + event.why.len(),
            Record::Start(start) => 200 + start.phases.len(),
            _ => 200,
        }
    }
}

/// A transaction that delivers its result to its waiting caller.
pub(crate) type Change = Box<dyn FnOnce(&mut Connection) + Send>;

/// Work for the writer, in the order in which it is due.
pub(crate) enum Work {
    Change(Change),
    /// Records, behind those that the writer still has.
    Records,
    /// Nothing waits, and more may come.
    Nothing,
    /// Nothing waits, and nothing more comes.
    End,
}

#[derive(Default)]
struct Waiting {
    changes: VecDeque<(u64, Change)>,
    records: VecDeque<Record>,
    record_bytes: usize,
    next_ticket: u64,
    ended: bool,
}

#[derive(Default)]
pub(crate) struct Queue {
    waiting: Mutex<Waiting>,
    more: Condvar,
}

impl Queue {
    /// Queues a change; returns a ticket to withdraw it with.
    pub fn change(&self, change: Change) -> u64 {
        let mut waiting = self.lock();
        let ticket = waiting.next_ticket;
        waiting.next_ticket += 1;
        waiting.changes.push_back((ticket, change));
        self.more.notify_one();
        ticket
    }

    /// Takes a change out of the queue; returns whether it was still there.
    pub fn withdraw(&self, ticket: u64) -> bool {
        let mut waiting = self.lock();
        let before = waiting.changes.len();
        waiting.changes.retain(|(number, _)| *number != ticket);
        waiting.changes.len() < before
    }

    /// Queues a record; returns whether there was room.
    pub fn record(&self, record: Record) -> bool {
        let mut waiting = self.lock();
        let bytes = waiting.record_bytes.saturating_add(record.bytes());
        if waiting.records.len() >= MOST_WAITING || bytes > MOST_WAITING_BYTES {
            return false;
        }
        waiting.record_bytes = bytes;
        waiting.records.push_back(record);
        self.more.notify_one();
        true
    }

    /// Says that nothing more comes.
    pub fn end(&self) {
        self.lock().ended = true;
        self.more.notify_one();
    }

    pub fn has_ended(&self) -> bool {
        self.lock().ended
    }

    /// Returns the next change.
    pub fn next_change(&self) -> Option<Change> {
        self.lock().changes.pop_front().map(|(_, change)| change)
    }

    /// Waits for a change, no longer than `longest_wait`.
    pub fn wait_for_change(&self, longest_wait: Duration) {
        let waits = |waiting: &mut Waiting| waiting.changes.is_empty() && !waiting.ended;
        drop(self.more.wait_timeout_while(self.lock(), longest_wait, waits));
    }

    /// Returns the work that is due, and moves records behind those of `batch`. Waits for work no longer than `longest_wait`, for ever
    /// where that is `None`; does not wait while `batch` has records.
    pub fn next(&self, batch: &mut VecDeque<Record>, longest_wait: Option<Duration>) -> Work {
        let until = longest_wait.map(|longest_wait| Instant::now() + longest_wait);
        let mut waiting = self.lock();
        loop {
            if let Some((_, change)) = waiting.changes.pop_front() {
                return Work::Change(change);
            }
            let room = BATCH.saturating_sub(batch.len()).min(waiting.records.len());
            let taken: Vec<Record> = waiting.records.drain(..room).collect();
            waiting.record_bytes -= taken.iter().map(Record::bytes).sum::<usize>();
            batch.extend(taken);
            match (batch.is_empty(), waiting.ended, until) {
                (false, ..) => return Work::Records,
                (true, true, _) => return Work::End,
                (true, false, None) => {
                    waiting = self.more.wait(waiting).unwrap_or_else(PoisonError::into_inner);
                }
                (true, false, Some(until)) => {
                    let left = until.saturating_duration_since(Instant::now());
                    if left.is_zero() {
                        return Work::Nothing;
                    }
                    let woken = self.more.wait_timeout(waiting, left);
                    waiting = woken.unwrap_or_else(PoisonError::into_inner).0;
                }
            }
        }
    }

    /// Drops the waiting changes, so that their callers get an error.
    pub fn refuse_changes(&self) {
        let refused = take(&mut self.lock().changes);
        drop(refused);
    }

    fn lock(&self) -> MutexGuard<'_, Waiting> {
        self.waiting.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn event(why: &str) -> Record {
        let why = why.into();
        Record::Event(Box::new(EventRecord {
            why,
            ..EventRecord::default()
        }))
    }

    fn words(batch: &VecDeque<Record>) -> Vec<&str> {
        let word = |record: &'_ Record| match record {
            Record::Event(event) => event.why.len(),
            _ => 0,
        };
        batch
            .iter()
            .map(|record| if word(record) == 1 { "short" } else { "long" })
            .collect()
    }

    #[test]
    fn a_change_goes_before_records_that_came_earlier_and_may_be_withdrawn() {
        let queue = Queue::default();
        let mut batch = VecDeque::new();
        assert!(queue.record(event("a")) && queue.record(event("bb")));
        let (first, second) = (queue.change(Box::new(|_| ())), queue.change(Box::new(|_| ())));
        assert!(queue.withdraw(second) && !queue.withdraw(second));
        assert!(matches!(queue.next(&mut batch, None), Work::Change(_)));
        assert!(!queue.withdraw(first), "it is under way");
        assert!(matches!(queue.next(&mut batch, None), Work::Records));
        assert_eq!(words(&batch), ["short", "long"]);
    }

    #[test]
    fn records_have_room_by_number_and_by_bytes_and_give_it_back() {
        let queue = Queue::default();
        let mut batch = VecDeque::new();
        let large = "x".repeat(MOST_WAITING_BYTES / 2);
        assert!(queue.record(event(&large)) && !queue.record(event(&large)));
        assert!(matches!(queue.next(&mut batch, None), Work::Records));
        assert!(queue.record(event(&large)), "the first one has left the queue");
        let taken = (0..2 * MOST_WAITING).filter(|_| queue.record(event(""))).count();
        assert_eq!(taken, MOST_WAITING - 1);
    }

    #[test]
    fn the_end_comes_after_all_that_waits() {
        let queue = Queue::default();
        let mut batch = VecDeque::new();
        assert!(matches!(queue.next(&mut batch, Some(Duration::ZERO)), Work::Nothing));
        queue.record(event("a"));
        queue.end();
        assert!(matches!(queue.next(&mut batch, None), Work::Records));
        batch.clear();
        assert!(matches!(queue.next(&mut batch, None), Work::End));
    }
}
