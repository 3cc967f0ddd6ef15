//! The callers' side of an engine: it sends orders, takes frames and shares them out.
//!
//! It knows nothing of the engine but those, so the engine may be a thread or another process.

use super::frame::{CallNumber, EngineStatus, Frame, Order};
use crate::record::{StepRecord, StepRing};
use crate::request::{EndReason, Event, GenerationRequest, Refusal};
use smallvec::{SmallVec, smallvec};
use std::collections::HashMap;
use std::sync::atomic::{AtomicU64, AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Instant;
use tokio::sync::{mpsc, oneshot};

/// Step records kept.
const RING: usize = 4096;
/// Events that a reader may leave unread before its call is ended.
const MOST_UNREAD: usize = 4096;

/// What one frame holds for a call.
type Batch = SmallVec<[Event; 1]>;

/// Calls under way, and what is known of their engine.
pub struct Edge {
    state: Mutex<State>,
    orders: Box<dyn Fn(Order) -> bool + Send + Sync>,
    next_call: AtomicU64,
    /// When the engine's clock began.
    started: Instant,
}

struct State {
    calls: HashMap<CallNumber, Line>,
    status: EngineStatus,
    ring: StepRing,
}

/// The way to the reader of a call.
struct Line {
    /// Until the call has been accepted or refused.
    answer: Option<oneshot::Sender<Result<(), Refusal>>>,
    events: mpsc::UnboundedSender<Batch>,
    /// Events that have not been read.
    unread: Arc<AtomicUsize>,
    /// Completions that have not ended.
    unfinished: u32,
    is_slow: bool,
}

impl Edge {
    /// Returns the edge of an engine whose clock began at `started`. `orders` hands an order on and returns whether anybody is there.
    pub fn new(started: Instant, orders: impl Fn(Order) -> bool + Send + Sync + 'static) -> Edge {
        Edge {
            state: Mutex::new(State {
                calls: HashMap::new(),
                status: EngineStatus::default(),
                ring: StepRing::new(RING),
            }),
            orders: Box::new(orders),
            next_call: AtomicU64::new(0),
            started,
        }
    }

    /// Hands in the requests of a call, all or none; they are in the queue when this returns. Completions are numbered over all of them.
    /// Dropping the stream, or this future, cancels what has not ended.
    ///
    /// # Errors
    /// When they are refused; nothing of them is left behind.
    pub async fn submit(self: &Arc<Self>, requests: Vec<GenerationRequest>) -> Result<RequestStream, Refusal> {
        let call = self.next_call.fetch_add(1, Ordering::Relaxed);
        let (sender, events) = mpsc::unbounded_channel();
        let (answer, accepted) = oneshot::channel();
        let unread = Arc::new(AtomicUsize::new(0));
        let line = Line {
            answer: Some(answer),
            events: sender,
            unread: unread.clone(),
            unfinished: requests.iter().map(GenerationRequest::unfinished).sum(),
            is_slow: false,
        };
        {
            let mut state = self.state();
            if state.status.failure.is_some() {
                return Err(state.stopped());
            }
            state.calls.insert(call, line);
        }
        // Before the answer is awaited, so that a caller who gives up meanwhile cancels too.
        let stream = RequestStream {
            events,
            batch: Batch::new().into_iter(),
            unread,
            edge: self.clone(),
            call,
        };
        let arrived = self.started.elapsed().as_micros() as u64;
        let order = Order::Submit {
            call,
            requests,
            arrived,
        };
        if !(self.orders)(order) {
            return Err(self.state().stopped());
        }
        match accepted.await {
            Ok(answer) => answer.map(|()| stream),
            Err(_) => Err(self.state().stopped()),
        }
    }

    /// Takes a frame and leaves it empty. Returns a record that is not kept any longer.
    pub fn take(&self, frame: &mut Frame) -> Option<StepRecord> {
        let mut slow: SmallVec<[CallNumber; 4]> = SmallVec::new();
        let mut state = self.state();
        let failure = state.status.failure.take();
        std::mem::swap(&mut state.status, &mut frame.status);
        state.status.failure = failure;
        let spare = frame.record.take().and_then(|record| state.ring.push(record));
        for (call, answer) in frame.answers.drain(..) {
            state.answer(call, answer);
        }
        // One message, and so one wake-up, for each call.
        if !frame.events.is_sorted_by_key(|(call, _)| *call) {
            frame.events.sort_by_key(|(call, _)| *call);
        }
        let mut events = frame.events.drain(..).peekable();
        while let Some((call, event)) = events.next() {
            let mut batch: Batch = smallvec![event];
            while let Some((_, event)) = events.next_if(|(other, _)| *other == call) {
                batch.push(event);
            }
            if state.deliver(call, batch) {
                slow.push(call);
            }
        }
        drop(state);
        for call in slow {
            (self.orders)(Order::Cancel {
                call,
                reason: EndReason::SlowReader,
            });
        }
        spare
    }

    /// Ends all calls, as the engine is gone.
    pub fn fail(&self, reason: &str) {
        let mut state = self.state();
        state.status.failure = Some(reason.to_owned());
        let stopped = state.stopped();
        for (_, line) in state.calls.drain() {
            match line.answer {
                Some(answer) => drop(answer.send(Err(stopped.clone()))),
                None => drop(line.events.send(smallvec![Event::Failed(reason.to_owned())])),
            }
        }
    }

    /// Ends all calls without a word, as the engine was stopped; there are no others then.
    pub fn close(&self) {
        let mut state = self.state();
        state.status.failure.get_or_insert_with(|| "it was shut down".into());
        state.calls.clear();
    }

    /// Returns how things stood with the last frame.
    pub fn status(&self) -> EngineStatus {
        let status = self.state().status.clone();
        EngineStatus {
            uptime: self.started.elapsed().as_secs_f64(),
            ..status
        }
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

impl State {
    fn answer(&mut self, call: CallNumber, answer: Result<(), Refusal>) {
        let is_refused = answer.is_err();
        let Some(line) = self.calls.get_mut(&call) else { return };
        if let Some(waiting) = line.answer.take() {
            // Who has given up meanwhile has cancelled too.
            let _ = waiting.send(answer);
        }
        if is_refused {
            self.calls.remove(&call);
        }
    }

    /// Hands events to their reader; returns whether it has just turned out to be too slow.
    fn deliver(&mut self, call: CallNumber, mut batch: Batch) -> bool {
        let Some(line) = self.calls.get_mut(&call) else {
            return false;
        };
        let ends = batch
            .iter()
            .filter(|event| matches!(event, Event::Ended { .. }))
            .count();
        line.unfinished -= (ends as u32).min(line.unfinished);
        let is_last = line.unfinished == 0;
        let was_slow = line.is_slow;
        line.is_slow |= line.unread.load(Ordering::Acquire) >= MOST_UNREAD;
        if line.is_slow {
            // The ends arrive even so.
            batch.retain(|event| matches!(event, Event::Ended { .. }));
        }
        if !batch.is_empty() {
            line.unread.fetch_add(batch.len(), Ordering::AcqRel);
            // A reader that is gone has cancelled.
            let _ = line.events.send(batch);
        }
        let is_slow = line.is_slow && !was_slow && !is_last;
        if is_last {
            self.calls.remove(&call);
        }
        is_slow
    }

    fn stopped(&self) -> Refusal {
        let reason = self.status.failure.clone();
        Refusal::Stopped(reason.unwrap_or_else(|| "it was shut down".into()))
    }
}

/// The events of a call; dropping it cancels what has not ended.
pub struct RequestStream {
    events: mpsc::UnboundedReceiver<Batch>,
    /// What has come and was not read.
    batch: smallvec::IntoIter<[Event; 1]>,
    unread: Arc<AtomicUsize>,
    edge: Arc<Edge>,
    call: CallNumber,
}

impl RequestStream {
    /// Returns the next event, or `None` when all completions have ended.
    pub async fn next(&mut self) -> Option<Event> {
        loop {
            if let Some(event) = self.batch.next() {
                return Some(event);
            }
            let batch = self.events.recv().await?;
            self.unread.fetch_sub(batch.len(), Ordering::AcqRel);
            self.batch = batch.into_iter();
        }
    }
}

impl Drop for RequestStream {
    fn drop(&mut self) {
        // Nobody is left to read; whoever sends finds it out at once. Unknown calls have ended.
        self.events.close();
        let is_known = self.edge.state().calls.contains_key(&self.call);
        if is_known {
            (self.edge.orders)(Order::Cancel {
                call: self.call,
                reason: EndReason::Cancelled,
            });
        }
    }
}
