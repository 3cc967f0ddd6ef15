//! The events of a call: those of all its requests, until every completion has ended.

use futures_util::stream::{self, BoxStream, SelectAll, StreamExt};
use std::pin::Pin;
use std::time::Duration;
use vastrelay_engine::{Event, RequestStream};

/// How long a stream is silent before a comment tells intermediaries that it lives.
const KEEP_ALIVE: Duration = Duration::from_secs(10);

/// Events of several requests, with completions numbered over all of them. Dropping them cancels what has not ended.
pub(super) struct Events {
    streams: SelectAll<BoxStream<'static, Event>>,
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
    /// Joins requests' events; each comes with its number of completions.
    pub fn new(requests: Vec<(RequestStream, u32)>, departure: impl Future<Output = ()> + 'static) -> Events {
        let mut first = 0;
        let streams = requests.into_iter().map(|(stream, choices)| {
            let numbered = numbered(stream, first);
            first += choices;
            numbered
        });
        Events {
            streams: stream::select_all(streams.collect::<Vec<_>>()),
            departure: Box::pin(departure),
            unfinished: first,
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
            event = self.streams.next() => match event {
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

/// Returns a request's events with its completions numbered from `first` on.
fn numbered(mut stream: RequestStream, first: u32) -> BoxStream<'static, Event> {
    let events = stream::poll_fn(move |context| stream.poll_next(context));
    let numbered = events.map(move |mut event| {
        match &mut event {
            Event::Admitted { choice } | Event::Prompt { choice, .. } | Event::Ended { choice, .. } => *choice += first,
            Event::Piece(piece) => piece.choice += first,
            Event::Failed(_) => {}
        }
        event
    });
    numbered.boxed()
}
