//! The engine's thread: the clock, the inbox and the device around an [`EngineCore`].

use super::core::{Effects, EngineCore, Input};
use super::edge::Edge;
use super::frame::Order;
use crate::executor::{Executor, ExecutorError, Report, StepResult};
use crate::moment::Moment;
use std::sync::Arc;
use std::sync::mpsc::{Receiver, RecvTimeoutError, Sender, TryRecvError};
use std::time::{Duration, Instant};

/// What comes into the engine's thread.
pub(super) enum Message {
    Order(Order),
    /// The step under way has ended.
    Step(Result<StepResult, ExecutorError>),
    Stop,
}

pub(super) struct EngineThread {
    pub core: EngineCore,
    pub executor: Box<dyn Executor>,
    pub edge: Arc<Edge>,
    pub inbox: Receiver<Message>,
    /// When the engine's clock began.
    pub started: Instant,
    /// Where the device reports its steps to: the inbox.
    report: Report,
    effects: Effects,
}

impl EngineThread {
    pub fn new(
        core: EngineCore,
        executor: Box<dyn Executor>,
        edge: Arc<Edge>,
        (outbox, inbox): (Sender<Message>, Receiver<Message>),
        started: Instant,
    ) -> EngineThread {
        EngineThread {
            core,
            executor,
            edge,
            inbox,
            started,
            report: Arc::new(move |result| {
                // Nobody is there any more when the engine was stopped meanwhile.
                let _ = outbox.send(Message::Step(result));
            }),
            effects: Effects::default(),
        }
    }

    /// Runs until it is told to stop or can do no more; returns why it can do no more.
    pub fn run(&mut self) -> Option<String> {
        while let Some(message) = self.next() {
            let mut input = match message {
                Some(Message::Stop) => return None,
                Some(Message::Order(order)) => Input::Order(order),
                Some(Message::Step(Ok(result))) => Input::Step(result),
                Some(Message::Step(Err(error))) => return Some(error.to_string()),
                None => Input::Begin,
            };
            let now = self.now();
            if let Input::Order(Order::Submit { arrived, .. }) = &mut input {
                *arrived = (*arrived).min(now);
            }
            self.core.handle(input, now, &mut self.effects);
            self.tell();
            if let Some(batch) = self.effects.batch.take()
                && let Err(error) = self.executor.submit(batch, &self.report)
            {
                return Some(error.to_string());
            }
            if let Some(failure) = self.effects.failure.take() {
                return Some(failure);
            }
        }
        None
    }

    /// Hands on what is to be told.
    fn tell(&mut self) {
        let Effects { frame, spare, .. } = &mut self.effects;
        if let Some(record) = self.edge.take(frame) {
            *spare = Some(record);
        }
    }

    /// Waits for what comes next: `Some(None)` when nothing has come in and there is work or something is due; `None` when nothing can
    /// come any more.
    fn next(&self) -> Option<Option<Message>> {
        if self.core.has_work() {
            return match self.inbox.try_recv() {
                Ok(message) => Some(Some(message)),
                Err(TryRecvError::Empty) => Some(None),
                Err(TryRecvError::Disconnected) => None,
            };
        }
        let due = self.core.next_deadline().filter(|_| !self.core.is_stepping());
        let Some(due) = due else {
            return self.inbox.recv().ok().map(Some);
        };
        let patience = Duration::from_micros(due.saturating_sub(self.now()));
        match self.inbox.recv_timeout(patience) {
            Ok(message) => Some(Some(message)),
            Err(RecvTimeoutError::Timeout) => Some(None),
            Err(RecvTimeoutError::Disconnected) => None,
        }
    }

    fn now(&self) -> Moment {
        self.started.elapsed().as_micros() as Moment
    }
}
