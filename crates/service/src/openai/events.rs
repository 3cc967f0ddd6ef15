//! The events of a call, until every completion has ended.

use crate::openai::failover::FailoverStream;
use std::future::poll_fn;
use std::iter::from_fn;
use std::pin::Pin;
use std::sync::Arc;
use std::task::{Context, Poll, ready};
use std::time::Duration;
use tokio::time::{Instant, Sleep, sleep};
use vastrelay_control::replicas::measured::MeasuredReplica;
use vastrelay_engine::Event;

/// How long a stream is silent before a comment tells intermediaries that it lives.
const KEEP_ALIVE: Duration = Duration::from_secs(10);
/// Most events that are handed over together, so that one call does not keep a thread from others for long.
const MOST_TOGETHER: usize = 64;

/// A call's events and its caller's departure. Dropping them cancels what has not ended.
pub(super) struct Events {
    stream: FailoverStream,
    departure: Pin<Box<dyn Future<Output = ()>>>,
    unfinished: u32,
    /// Ready when no event may have come for a while. It is reset only then, as a reset costs more than a note of the time.
    silence: Pin<Box<Sleep>>,
    /// When something came.
    heard: Instant,
}

/// What comes next.
pub(super) enum Next {
    /// Events: all that have come by now, or as many as are handed over together.
    Events,
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
    pub fn new(stream: FailoverStream, unfinished: u32, departure: impl Future<Output = ()> + 'static) -> Events {
        Events {
            stream,
            departure: Box::pin(departure),
            unfinished,
            silence: Box::pin(sleep(KEEP_ALIVE)),
            heard: Instant::now(),
        }
    }

    /// Returns how many completions have not ended.
    pub fn unfinished(&self) -> u32 {
        self.unfinished
    }

    /// Returns the replica that works on the call, where one does.
    pub fn measured(&self) -> Option<&Arc<MeasuredReplica>> {
        self.stream.measured()
    }

    /// Waits for what comes next; [`Self::come`] returns events.
    pub async fn next(&mut self) -> Next {
        poll_fn(|context| self.poll_next(context)).await
    }

    /// Ready with what comes next; [`Self::come`] returns events.
    pub fn poll_next(&mut self, context: &mut Context<'_>) -> Poll<Next> {
        if self.unfinished == 0 {
            return Poll::Ready(Next::End);
        }
        match self.stream.poll_come(context) {
            Poll::Ready(true) => {
                self.heard = Instant::now();
                return Poll::Ready(Next::Events);
            }
            Poll::Ready(false) => return Poll::Ready(Next::BrokenOff),
            Poll::Pending => {}
        }
        if self.departure.as_mut().poll(context).is_ready() {
            return Poll::Ready(Next::Gone);
        }
        self.poll_silence(context).map(|()| Next::Silence)
    }

    /// Ready when nothing has come for a while.
    fn poll_silence(&mut self, context: &mut Context<'_>) -> Poll<()> {
        loop {
            ready!(self.silence.as_mut().poll(context));
            let now = Instant::now();
            let is_silent = now >= self.heard + KEEP_ALIVE;
            if is_silent {
                self.heard = now;
            }
            self.silence.as_mut().reset(self.heard + KEEP_ALIVE);
            if is_silent {
                return Poll::Ready(());
            }
        }
    }

    /// Returns the events that have come, or as many as are handed over together, up to the last completion's end.
    pub fn come(&mut self) -> impl Iterator<Item = Event> {
        let next = from_fn(|| {
            if self.unfinished == 0 {
                return None;
            }
            let event = self.stream.come()?;
            self.unfinished -= u32::from(matches!(event, Event::Ended { .. }));
            Some(event)
        });
        next.take(MOST_TOGETHER)
    }
}
