//! The stamps of a connection.

use std::sync::{Arc, Mutex, PoisonError};
use std::time::Instant;

/// When a connection's bytes arrived and left. Clones tell of the same connection.
#[derive(Clone, Debug)]
pub struct Stamps(Arc<Mutex<Times>>);

#[derive(Debug)]
struct Times {
    /// When the last message from the other end began to arrive.
    first_received: Instant,
    /// When the bytes read last arrived.
    received: Instant,
    /// When the last message from this end began to leave.
    sent: Instant,
    last: Speaker,
    /// Whether it has brought an answer.
    used: bool,
}

/// Who said something last.
#[derive(Debug, PartialEq, Eq)]
enum Speaker {
    Nobody,
    Us,
    Them,
}

impl Stamps {
    /// Returns the stamps of a connection on which nothing has been said yet.
    pub(crate) fn new() -> Stamps {
        let now = Instant::now();
        Stamps(Arc::new(Mutex::new(Times {
            first_received: now,
            received: now,
            sent: now,
            last: Speaker::Nobody,
            used: false,
        })))
    }

    /// Returns when the last message began to arrive: as [`Stamps::received`], of the first bytes after others had been sent.
    pub fn first_received(&self) -> Instant {
        self.with(|times| times.first_received)
    }

    /// Returns when the bytes that were read last had arrived at this machine, by the system's note where it makes one; else
    /// when they were read.
    pub fn received(&self) -> Instant {
        self.with(|times| times.received)
    }

    /// Returns when the last message began to leave: when the first bytes were written after others had been read.
    pub fn sent(&self) -> Instant {
        self.with(|times| times.sent)
    }

    /// Notes an answer; returns whether there was one before, so that this one's request did not wait for the connection.
    pub fn note_answer(&self) -> bool {
        self.with(|times| std::mem::replace(&mut times.used, true))
    }

    pub(crate) fn note_received(&self, at: Instant) {
        self.with(|times| {
            times.received = at;
            if times.last != Speaker::Them {
                times.first_received = at;
                times.last = Speaker::Them;
            }
        });
    }

    pub(crate) fn note_sent(&self, at: Instant) {
        self.with(|times| {
            if times.last != Speaker::Us {
                times.sent = at;
                times.last = Speaker::Us;
            }
        });
    }

    fn with<R>(&self, look: impl FnOnce(&mut Times) -> R) -> R {
        look(&mut self.0.lock().unwrap_or_else(PoisonError::into_inner))
    }
}
