//! The engine's thread: the clock, the inbox and the device around an [`EngineCore`].

use super::core::{Effects, EngineCore, Input};
use super::frame::{EngineCommand, FrameSink};
use crate::executor::{Executor, ExecutorError, Report, StepResult};
use crate::micros::Micros;
use std::sync::Arc;
use std::sync::mpsc::{Receiver, RecvTimeoutError, Sender};
use std::time::{Duration, Instant};

/// An input of the engine's thread.
pub(super) enum Message {
    Command(EngineCommand),
    /// The step under way has ended.
    Step(Result<StepResult, ExecutorError>),
    /// Nothing has come in, and there is work or something is due.
    Begin,
    Stop,
}

pub(super) struct EngineThread {
    pub core: EngineCore,
    pub executor: Box<dyn Executor>,
    pub sink: Arc<dyn FrameSink>,
    pub inbox: Receiver<Message>,
    /// When the engine's clock began.
    pub started: Instant,
    /// Where the device reports its steps to: the inbox.
    report: Report,
    effects: Effects,
    /// Whether there is anything to tell.
    has_news: bool,
}

impl EngineThread {
    pub fn new(
        core: EngineCore,
        executor: Box<dyn Executor>,
        sink: Arc<dyn FrameSink>,
        (outbox, inbox): (Sender<Message>, Receiver<Message>),
        started: Instant,
    ) -> EngineThread {
        EngineThread {
            core,
            executor,
            sink,
            inbox,
            started,
            report: Arc::new(move |result| {
                // Nobody is there any more when the engine was stopped meanwhile.
                let _ = outbox.send(Message::Step(result));
            }),
            effects: Effects::default(),
            has_news: false,
        }
    }

    /// Runs until a stop or a failure; returns the failure.
    pub fn run(&mut self) -> Option<String> {
        let end = self.work();
        self.report_step();
        end
    }

    fn work(&mut self) -> Option<String> {
        loop {
            let mut input = match self.next() {
                Message::Stop => return None,
                Message::Command(command) => Input::Command(command),
                Message::Step(Ok(result)) => Input::Step(result),
                Message::Step(Err(error)) => return Some(error.to_string()),
                Message::Begin => Input::Begin,
            };
            let now = self.now();
            if let Input::Command(EngineCommand::Submit { arrived, .. }) = &mut input {
                *arrived = (*arrived).min(now);
            }
            self.core.handle(input, now, &mut self.effects);
            self.has_news = true;
            if let Some(batch) = self.effects.batch.take()
                && let Err(error) = self.executor.submit(batch, &self.report)
            {
                return Some(error.to_string());
            }
            if let Some(failure) = self.effects.failure.take() {
                return Some(failure);
            }
        }
    }

    /// Hands the frame on, where there is news.
    fn report_step(&mut self) {
        if !std::mem::take(&mut self.has_news) {
            return;
        }
        self.effects.is_awaited = false;
        let Effects { frame, spare, .. } = &mut self.effects;
        if let Some(record) = self.sink.take(frame) {
            *spare = Some(record);
        }
    }

    /// Waits for what comes next. Before that it tells what has happened, so the device computes the next step meanwhile.
    fn next(&mut self) -> Message {
        if self.core.has_work() {
            if self.effects.is_awaited {
                self.report_step();
            }
            return self.within(Duration::ZERO);
        }
        self.report_step();
        match self.core.next_deadline().filter(|_| !self.core.is_stepping()) {
            Some(due) => self.within(Duration::from_micros(due.saturating_sub(self.now()))),
            None => self.inbox.recv().unwrap_or(Message::Stop),
        }
    }

    /// Waits for so long at most.
    fn within(&self, longest_wait: Duration) -> Message {
        self.inbox
            .recv_timeout(longest_wait)
            .unwrap_or_else(|error| match error {
                RecvTimeoutError::Timeout => Message::Begin,
                RecvTimeoutError::Disconnected => Message::Stop,
            })
    }

    fn now(&self) -> Micros {
        self.started.elapsed().as_micros() as Micros
    }
}
