//! The events of a call, until every completion has ended.

use std::pin::Pin;
use std::time::Duration;
use vastrelay_engine::{Event, RequestStream};

/// How long a stream is silent before a comment tells intermediaries that it lives.
const KEEP_ALIVE: Duration = Duration::from_secs(10);

/// A call's events and its caller's departure. Dropping them cancels what has not ended.
pub(super) struct Events {
    stream: RequestStream,
    departure: Pin<Box<dyn Future<Output = ()>>>,
    unfinished: u32,
}

/// What comes next.
pub(super) enum Next {
    /// An event.
    Event(Box<Event>),
    /// Nothing for a while.
    Silence,
    /// Every completion has ended.
    End,
    /// The caller has gone, or closed its sending half.
    Gone,
    /// The events ended before the completions did: the engine is gone.
    BrokenOff,
}

impl Events {
    /// Returns the events of so many completions.
    pub fn new(stream: RequestStream, unfinished: u32, departure: impl Future<Output = ()> + 'static) -> Events {
        Events {
            stream,
            departure: Box::pin(departure),
            unfinished,
        }
    }

    /// Returns how many completions have not ended.
    pub fn unfinished(&self) -> u32 {
        self.unfinished
    }

    /// Waits for what comes next.
    pub async fn next(&mut self) -> Next {
        if self.unfinished == 0 {
            return Next::End;
        }
        tokio::select! {
            biased;
            event = self.stream.next() => match event {
                Some(event) => {
                    self.unfinished -= u32::from(matches!(event, Event::Ended { .. }));
                    Next::Event(Box::new(event))
                }
                None => Next::BrokenOff,
            },
            () = &mut self.departure => Next::Gone,
            () = tokio::time::sleep(KEEP_ALIVE) => Next::Silence,
        }
    }
}
