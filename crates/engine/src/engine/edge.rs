//! The callers' side of an engine: it sends orders, takes frames and shares them out.
//!
//! It knows nothing of the engine but those, so the engine may be a thread or another process.

use super::frame::{CallNumber, EngineCommand, EngineStatus, Frame, FrameSink};
use super::thread_inbox::{Arrival, ReaderNumber, ThreadInbox};
use crate::micros::Micros;
use crate::record::{StepRecord, StepRing};
use crate::request::{EndReason, Event, GenerationRequest, Refusal};
use rustc_hash::FxHashMap;
use std::collections::VecDeque;
use std::future::poll_fn;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, OnceLock, PoisonError, Weak};
use std::task::{Context, Poll};
use std::time::Instant;
use tokio::sync::oneshot;

/// Step records kept.
const RING: usize = 4096;

/// Calls under way, and what is known of their engine.
pub struct Edge {
    state: Mutex<State>,
    commands: Box<dyn Fn(EngineCommand) -> bool + Send + Sync>,
    next_call: AtomicU64,
    /// When the engine's clock began.
    started: Instant,
    /// Told when sequences have ended.
    room: OnceLock<Box<dyn Fn() + Send + Sync>>,
}

struct State {
    calls: FxHashMap<CallNumber, Line>,
    outgoing: Vec<Outgoing>,
    /// Sequences of calls that have not ended.
    given: usize,
    status: EngineStatus,
    ring: StepRing,
}

/// The way to the reader of a call.
struct Line {
    /// Until the call has been accepted or refused.
    answer: Option<oneshot::Sender<Result<(), Refusal>>>,
    inbox: Arc<ThreadInbox>,
    reader: ReaderNumber,
    /// Completions that have not ended.
    unfinished: u32,
}

/// What is about to be handed to a thread.
struct Outgoing {
    inbox: Arc<ThreadInbox>,
    arrivals: Vec<Arrival>,
}

impl Edge {
    /// Returns the edge of an engine whose clock began at `started`. `commands` sends a command and returns whether the engine still listens.
    pub fn new(started: Instant, commands: impl Fn(EngineCommand) -> bool + Send + Sync + 'static) -> Edge {
        Edge {
            state: Mutex::new(State {
                calls: FxHashMap::default(),
                outgoing: Vec::new(),
                given: 0,
                status: EngineStatus::default(),
                ring: StepRing::new(RING),
            }),
            commands: Box::new(commands),
            next_call: AtomicU64::new(0),
            started,
            room: OnceLock::new(),
        }
    }

    /// Returns how many sequences have not ended of those that were handed in; nothing when the engine has stopped.
    pub fn given(&self) -> Option<usize> {
        let state = self.state();
        state.status.failure.is_none().then_some(state.given)
    }

    /// Lets somebody know, from any thread, whenever sequences have ended or the engine has; only the first who asks.
    pub fn when_room(&self, tell: Box<dyn Fn() + Send + Sync>) {
        let _ = self.room.set(tell);
    }

    fn notify_of_room(&self) {
        if let Some(tell) = self.room.get() {
            tell();
        }
    }

    /// Gives calls numbers beyond this one from now on.
    pub fn number_calls_after(&self, last: CallNumber) {
        self.next_call.fetch_max(last + 1, Ordering::Relaxed);
    }

    /// Hands in the requests of a call, all or none; they are in the queue when this returns. Completions are numbered over all of them.
    /// Dropping the stream, or this future, cancels what has not ended.
    ///
    /// # Errors
    /// When they are refused; nothing of them is left behind.
    ///
    /// # Panics
    /// Outside of a Tokio runtime, whose task shares events out.
    pub async fn submit(self: &Arc<Self>, mut requests: Vec<GenerationRequest>) -> Result<RequestStream, Refusal> {
        let call = self.next_call.fetch_add(1, Ordering::Relaxed);
        let inbox = ThreadInbox::own();
        let edge = Arc::downgrade(self);
        let reader = inbox.enter(move || Edge::give_up(&edge, call));
        let (answer, accepted) = oneshot::channel();
        let line = Line {
            answer: Some(answer),
            inbox: inbox.clone(),
            reader,
            unfinished: requests.iter().map(GenerationRequest::unfinished).sum(),
        };
        // From now on, so that a caller who gives up before the answer cancels too.
        let stream = RequestStream {
            inbox,
            reader,
            come: VecDeque::new(),
            edge: self.clone(),
            call,
        };
        {
            let mut state = self.state();
            if state.status.failure.is_some() {
                return Err(state.stopped());
            }
            state.given += line.unfinished as usize;
            state.calls.insert(call, line);
        }
        let arrived = self.arrival_of(&mut requests);
        let command = EngineCommand::Submit {
            call,
            requests,
            arrived,
        };
        if !(self.commands)(command) {
            return Err(self.state().stopped());
        }
        match accepted.await {
            Ok(answer) => answer.map(|()| stream),
            Err(_) => Err(self.state().stopped()),
        }
    }

    /// Returns when requests arrived, by the engine's clock. Of what they waited before that began, their limits have lost so much.
    fn arrival_of(&self, requests: &mut [GenerationRequest]) -> Micros {
        let waited = requests.iter().map(|request| request.waited).max().unwrap_or_default();
        let runs = self.started.elapsed();
        let before = waited.saturating_sub(runs);
        for request in requests {
            request.time_limit = request.time_limit.map(|limit| limit.saturating_sub(before));
        }
        runs.saturating_sub(waited).as_micros() as Micros
    }

    /// Cancels a call whose reader is too slow.
    fn give_up(edge: &Weak<Edge>, call: CallNumber) {
        if let Some(edge) = edge.upgrade() {
            (edge.commands)(EngineCommand::Cancel {
                call,
                reason: EndReason::SlowReader,
            });
        }
    }

    /// Returns how things stood with the last frame.
    pub fn status(&self) -> EngineStatus {
        let status = self.state().status.clone();
        EngineStatus {
            uptime: self.started.elapsed().as_secs_f64(),
            ..status
        }
    }

    /// Returns how many calls have not ended.
    pub fn unanswered(&self) -> usize {
        self.state().calls.len()
    }

    /// Returns the newest records after a step number, oldest first.
    pub fn steps_after(&self, number: u64, most: usize) -> Vec<StepRecord> {
        self.state().ring.after(number, most)
    }

    /// What is under this lock is whole at every moment, so it is of use even where another thread has panicked.
    fn state(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl FrameSink for Edge {
    fn take(&self, frame: &mut Frame) -> Option<StepRecord> {
        let mut state = self.state();
        let failure = state.status.failure.take();
        std::mem::swap(&mut state.status, &mut frame.status);
        state.status.failure = failure;
        frame.pong = false;
        let (spare, given) = (
            frame.record.take().and_then(|record| state.ring.push(record)),
            state.given,
        );
        for (call, answer) in frame.answers.drain(..) {
            state.answer(call, answer);
        }
        for (call, event) in frame.events.drain(..) {
            state.deliver(call, event);
        }
        state.send();
        let has_room = state.given < given;
        drop(state);
        if has_room {
            self.notify_of_room();
        }
        spare
    }

    /// Ends all calls, as the engine is gone.
    fn fail(&self, reason: &str) {
        let mut state = self.state();
        state.status.failure = Some(reason.to_owned());
        state.given = 0;
        let lost = Refusal::Lost(reason.to_owned());
        for (_, mut line) in std::mem::take(&mut state.calls) {
            match line.answer.take() {
                Some(answer) => drop(answer.send(Err(lost.clone()))),
                None => queue(&mut state.outgoing, &line, Some(Event::Failed(reason.to_owned()))),
            }
            queue(&mut state.outgoing, &line, None);
        }
        state.send();
        drop(state);
        self.notify_of_room();
    }

    /// Ends all calls without a word, as the engine was stopped; there are no others then.
    fn close(&self) {
        let mut state = self.state();
        state.status.failure.get_or_insert_with(|| "it was shut down".into());
        for (_, line) in std::mem::take(&mut state.calls) {
            queue(&mut state.outgoing, &line, None);
        }
        state.send();
    }
}

impl State {
    fn answer(&mut self, call: CallNumber, answer: Result<(), Refusal>) {
        let is_refused = answer.is_err();
        let Some(line) = self.calls.get_mut(&call) else { return };
        if let Some(waiting) = line.answer.take() {
            // Who has given up meanwhile has cancelled too.
            let _ = waiting.send(answer);
        }
        if is_refused {
            self.end(call);
        }
    }

    fn deliver(&mut self, call: CallNumber, event: Event) {
        let Some(line) = self.calls.get_mut(&call) else { return };
        line.unfinished = line
            .unfinished
            .saturating_sub(u32::from(matches!(event, Event::Ended { .. })));
        let is_last = line.unfinished == 0;
        self.given = self
            .given
            .saturating_sub(usize::from(matches!(event, Event::Ended { .. })));
        queue(&mut self.outgoing, line, Some(event));
        if is_last {
            self.end(call);
        }
    }

    /// Forgets a call and tells its reader that there will be no more.
    fn end(&mut self, call: CallNumber) {
        if let Some(line) = self.calls.remove(&call) {
            self.given = self.given.saturating_sub(line.unfinished as usize);
            queue(&mut self.outgoing, &line, None);
        }
    }

    /// Hands each thread what is for its calls.
    fn send(&mut self) {
        for outgoing in &mut self.outgoing {
            if !outgoing.arrivals.is_empty() {
                outgoing.inbox.put(&mut outgoing.arrivals);
            }
        }
    }

    fn stopped(&self) -> Refusal {
        let reason = self.status.failure.clone();
        Refusal::Stopped(reason.unwrap_or_else(|| "it was shut down".into()))
    }
}

/// Puts an arrival with those that are sent next.
fn queue(outgoing: &mut Vec<Outgoing>, line: &Line, event: Option<Event>) {
    // Threads that take calls are few.
    let known = outgoing
        .iter()
        .position(|outgoing| Arc::ptr_eq(&outgoing.inbox, &line.inbox));
    let index = known.unwrap_or_else(|| {
        outgoing.retain(|outgoing| !outgoing.inbox.is_over());
        outgoing.push(Outgoing {
            inbox: line.inbox.clone(),
            arrivals: Vec::new(),
        });
        outgoing.len() - 1
    });
    outgoing[index].arrivals.push((line.reader, event));
}

/// The events of a call; dropping it cancels what has not ended.
pub struct RequestStream {
    inbox: Arc<ThreadInbox>,
    reader: ReaderNumber,
    /// What has come and was not read.
    come: VecDeque<Event>,
    edge: Arc<Edge>,
    call: CallNumber,
}

impl RequestStream {
    /// Returns the next event, or `None` when all completions have ended.
    pub async fn next(&mut self) -> Option<Event> {
        let any = poll_fn(|context| self.poll_come(context)).await;
        any.then(|| self.come.pop_front()).flatten()
    }

    /// Ready as soon as events have come, which [`Self::come`] then returns; with `false` when all completions have ended.
    pub fn poll_come(&mut self, context: &mut Context<'_>) -> Poll<bool> {
        if !self.come.is_empty() {
            return Poll::Ready(true);
        }
        self.inbox.poll_take(self.reader, context, &mut self.come)
    }

    /// Returns the next event of those that have come.
    pub fn come(&mut self) -> Option<Event> {
        self.come.pop_front()
    }
}

impl Drop for RequestStream {
    fn drop(&mut self) {
        // Nobody is left to read. Unknown calls have ended.
        self.inbox.leave(self.reader);
        let is_known = self.edge.state().calls.contains_key(&self.call);
        if is_known {
            (self.edge.commands)(EngineCommand::Cancel {
                call: self.call,
                reason: EndReason::Cancelled,
            });
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use futures_util::FutureExt;

    #[tokio::test]
    async fn a_request_without_an_answer_is_lost_with_its_engine_and_later_ones_are_not_taken() {
        let edge = Arc::new(Edge::new(Instant::now(), |_| true));
        let submit = || edge.submit(vec![GenerationRequest::new(vec![1], 1)]);
        let mut waiting = Box::pin(submit());
        assert!(waiting.as_mut().now_or_never().is_none());
        edge.fail("its worker is gone");
        let why = "its worker is gone".to_owned();
        assert_eq!(waiting.await.err(), Some(Refusal::Lost(why.clone())));
        assert_eq!(submit().await.err(), Some(Refusal::Stopped(why)));
    }
}
