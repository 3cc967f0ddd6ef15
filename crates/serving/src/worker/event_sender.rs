//! What a worker tells its service: as soon as it happens, as long as the service reads; else together, later.

use super::message::encode;
use super::protocol::{MOST_EVENT_BYTES, MOST_EVENTS, MOST_RECORD_BYTES, MOST_SCORES, Ready, ToService, WINDOW};
use super::send_buffer::SendBuffer;
use super::size::{event_bytes, record_bytes};
use std::collections::{HashMap, HashSet, VecDeque};
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError};
use vastrelay_engine::engine::frame::{CallNumber, EngineCommand, Frame, FrameSink};
use vastrelay_engine::record::StepRecord;
use vastrelay_engine::{EndReason, Event, Refusal};

/// Events that may wait before calls are looked at that have many.
const MOST_WAITING: usize = 1 << 16;
/// Events that may wait of each call then.
const MOST_OF_CALL: usize = 4_096;
/// Records that wait at most; earlier ones are dropped.
const MOST_RECORDS: usize = 4_096;

/// Sends a worker's messages to the service that is connected.
pub(super) struct EventSender {
    state: Mutex<State>,
    /// Notified whenever the last call may have ended and everything is sent.
    quiet: Condvar,
    /// Hands a command to the engine.
    command: Box<dyn Fn(EngineCommand) + Send + Sync>,
    /// Runs when the engine has failed and the failure is sent.
    failed: Box<dyn Fn() + Send + Sync>,
}

#[derive(Default)]
struct State {
    send_buffer: Option<Arc<SendBuffer>>,
    /// Bytes that may be sent.
    credit: usize,
    /// Messages that go before the frame.
    first: VecDeque<ToService>,
    /// News that was not sent yet.
    frame: Frame,
    records: VecDeque<StepRecord>,
    /// Bytes of these records in a message, at most.
    record_bytes: usize,
    /// Whether the frame has more than the engine's status.
    has_news: bool,
    /// Completions of each call that have not ended.
    held: HashMap<CallNumber, u32>,
    /// Calls whose events are not read, of which only the ends are told.
    slow: HashSet<CallNumber>,
    bytes: Vec<u8>,
}

impl EventSender {
    pub fn new(
        command: impl Fn(EngineCommand) + Send + Sync + 'static,
        failed: impl Fn() + Send + Sync + 'static,
    ) -> EventSender {
        EventSender {
            state: Mutex::default(),
            quiet: Condvar::new(),
            command: Box::new(command),
            failed: Box::new(failed),
        }
    }

    /// Sends everything from now on to a service that has just connected.
    pub fn connect(&self, send_buffer: Arc<SendBuffer>) {
        let mut state = self.lock();
        state.send_buffer = Some(send_buffer);
        state.credit = WINDOW;
        self.flush(&mut state);
    }

    /// Notes that the service has gone. Events of calls are dropped until the next one connects, as no caller waits for them.
    pub fn disconnect(&self) {
        let mut state = self.lock();
        if let Some(send_buffer) = state.send_buffer.take() {
            send_buffer.close();
        }
        state.forget();
        self.quiet.notify_all();
    }

    /// Waits until no call is left and everything is sent, or the service has gone, and hangs up.
    pub fn hang_up_when_done(&self) {
        let busy = |state: &mut State| state.send_buffer.is_some() && !state.is_quiet();
        let state = self.quiet.wait_while(self.lock(), busy);
        let send_buffer = state.unwrap_or_else(PoisonError::into_inner).send_buffer.clone();
        if let Some(send_buffer) = send_buffer {
            send_buffer.drain();
            send_buffer.close();
        }
    }

    /// Tells what is to be told, as far as it is read.
    fn flush(&self, state: &mut State) {
        state.flush();
        if state.is_quiet() {
            self.quiet.notify_all();
        }
    }

    /// Hears that so many bytes have been read.
    pub fn read(&self, bytes: usize) {
        let mut state = self.lock();
        state.credit = state.credit.saturating_add(bytes).min(WINDOW);
        self.flush(&mut state);
    }

    /// Hears that all that had to wait has been sent.
    pub fn cleared(&self) {
        self.flush(&mut self.lock());
    }

    /// Sends a message before all that follow.
    pub fn send(&self, what: ToService) {
        let mut state = self.lock();
        state.first.push_back(what);
        self.flush(&mut state);
    }

    /// Reports that the worker takes commands; `ready` is as it was when the engine began.
    pub fn ready(&self, ready: &Ready) {
        let status = self.lock().frame.status.clone();
        self.send(ToService::Ready(Ready {
            status,
            ..ready.clone()
        }));
    }

    /// Notes a call before the engine hears of it.
    pub fn holds(&self, call: CallNumber, completions: u32) {
        self.lock().held.insert(call, completions);
    }

    /// Returns the calls that have not ended.
    pub fn held(&self) -> Vec<CallNumber> {
        self.lock().held.keys().copied().collect()
    }

    /// Tells that a call is refused that the engine never hears of.
    pub fn refuse(&self, call: CallNumber, refusal: Refusal) {
        let mut state = self.lock();
        state.held.remove(&call);
        state.frame.answers.push((call, Err(refusal)));
        state.has_news = true;
        self.flush(&mut state);
    }

    /// What is under this lock is whole at every moment, so it is of use even where another thread has panicked.
    fn lock(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl FrameSink for EventSender {
    fn take(&self, frame: &mut Frame) -> Option<StepRecord> {
        let mut state = self.lock();
        state.add(frame);
        self.flush(&mut state);
        if state.frame.events.len() <= MOST_WAITING {
            return None;
        }
        let slow = state.give_up();
        drop(state);
        for call in slow {
            (self.command)(EngineCommand::Cancel {
                call,
                reason: EndReason::SlowReader,
            });
        }
        None
    }

    fn fail(&self, reason: &str) {
        self.send(ToService::Failed(reason.to_owned()));
        let send_buffer = self.lock().send_buffer.clone();
        if let Some(send_buffer) = send_buffer {
            send_buffer.drain();
        }
        (self.failed)();
    }

    fn close(&self) {}
}

impl State {
    /// Adds what has happened to what was not told.
    fn add(&mut self, new: &mut Frame) {
        for (call, answer) in &new.answers {
            if answer.is_err() {
                self.held.remove(call);
            }
        }
        for (call, event) in &new.events {
            if let Event::Ended { .. } = event {
                self.ended(*call);
            }
        }
        std::mem::swap(&mut self.frame.status, &mut new.status);
        if self.send_buffer.is_none() {
            new.answers.clear();
            new.events.clear();
            new.record = None;
            new.pong = false;
            return;
        }
        self.has_news |= !new.answers.is_empty() || !new.events.is_empty() || new.record.is_some() || new.pong;
        self.frame.pong |= std::mem::take(&mut new.pong);
        self.frame.answers.append(&mut new.answers);
        if self.slow.is_empty() {
            self.frame.events.append(&mut new.events);
        } else {
            let slow = &self.slow;
            let told =
                |(call, event): &(CallNumber, Event)| !slow.contains(call) || matches!(event, Event::Ended { .. });
            self.frame.events.extend(new.events.drain(..).filter(told));
        }
        if let Some(record) = new.record.take()
            && let Some(before) = self.frame.record.replace(record)
        {
            self.record_bytes += record_bytes(&before);
            self.records.push_back(before);
            while self.records.len() > MOST_RECORDS || self.record_bytes > MOST_RECORD_BYTES {
                let Some(earliest) = self.records.pop_front() else {
                    break;
                };
                self.record_bytes -= record_bytes(&earliest);
            }
        }
    }

    /// Returns whether no call is left and everything has been told.
    fn is_quiet(&self) -> bool {
        self.held.is_empty() && !self.has_news && self.first.is_empty()
    }

    fn ended(&mut self, call: CallNumber) {
        let Some(left) = self.held.get_mut(&call) else { return };
        *left = left.saturating_sub(1);
        if *left == 0 {
            self.held.remove(&call);
            self.slow.remove(&call);
        }
    }

    /// Drops what waits of calls that nobody reads, but for their ends, and returns them.
    fn give_up(&mut self) -> Vec<CallNumber> {
        let mut counts: HashMap<CallNumber, usize> = HashMap::new();
        for (call, _) in &self.frame.events {
            *counts.entry(*call).or_default() += 1;
        }
        let many = counts.into_iter().filter(|(_, count)| *count > MOST_OF_CALL);
        let slow: Vec<CallNumber> = many.map(|(call, _)| call).collect();
        self.slow.extend(&slow);
        let dropped = &self.slow;
        self.frame
            .events
            .retain(|(call, event)| !dropped.contains(call) || matches!(event, Event::Ended { .. }));
        slow
    }

    /// Forgets what was to be told.
    fn forget(&mut self) {
        self.first.clear();
        self.frame.answers.clear();
        self.frame.events.clear();
        self.frame.record = None;
        self.frame.pong = false;
        self.records.clear();
        self.record_bytes = 0;
        self.slow.clear();
        self.has_news = false;
    }

    /// Sends waiting messages, as long as the service reads them.
    fn flush(&mut self) {
        let Some(send_buffer) = self.send_buffer.clone() else {
            return;
        };
        while self.credit > 0 && (self.has_news || !self.first.is_empty()) && send_buffer.is_clear() {
            let mut bytes = std::mem::take(&mut self.bytes);
            bytes.clear();
            match self.first.pop_front() {
                Some(first) => encode(&first, &mut bytes),
                None => self.encode_news(&mut bytes),
            }
            self.credit = self.credit.saturating_sub(bytes.len());
            let is_there = send_buffer.send(&bytes);
            self.bytes = bytes;
            if !is_there {
                return;
            }
        }
    }

    /// Writes what has happened, or as much of it as goes into a message with the scores that come before.
    fn encode_news(&mut self, bytes: &mut Vec<u8>) {
        let mut told = std::mem::take(&mut self.frame);
        let status = told.status.clone();
        let fits = events_of_message(&told.events);
        let later = match fits < told.events.len() {
            true => told.events.split_off(fits),
            false => Vec::new(),
        };
        for (call, event) in &mut told.events {
            if let Event::Prompt { choice, logprobs } = event {
                while logprobs.len() > MOST_SCORES {
                    let rest = logprobs.split_off(MOST_SCORES);
                    let first = std::mem::replace(logprobs, rest);
                    encode(&ToService::Scores(*call, *choice, first), bytes);
                }
            }
        }
        self.record_bytes = 0;
        let message = ToService::Events(told, std::mem::take(&mut self.records).into());
        encode(&message, bytes);
        self.has_news = !later.is_empty();
        // Later news reuse the memory of these.
        if let ToService::Events(mut told, mut records) = message {
            told.answers.clear();
            told.events.clear();
            records.clear();
            self.records = records.into();
            self.frame = Frame {
                events: if later.is_empty() { told.events } else { later },
                answers: told.answers,
                record: None,
                pong: false,
                status,
            };
        }
    }
}

/// Returns how many of the first events go into one message: one at least.
fn events_of_message(events: &[(CallNumber, Event)]) -> usize {
    let mut bytes = 0;
    let fits = |(_, event): &&(CallNumber, Event)| {
        bytes += event_bytes(event);
        bytes <= MOST_EVENT_BYTES
    };
    let count = events.iter().take(MOST_EVENTS).take_while(fits).count();
    count.max(1).min(events.len())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::worker::message;
    use crate::worker::protocol::MOST_FROM_WORKER;
    use std::io::Read;
    use std::os::unix::net::UnixStream;
    use vastrelay_engine::record::LaneRecord;
    use vastrelay_engine::request::Piece;
    use vastrelay_engine::scheduler::RowKind;
    use vastrelay_engine::token::TokenLogprob;

    fn piece(choice: u32) -> Event {
        Event::Piece(Piece {
            choice,
            text: "boat".into(),
            ids: [7].into_iter().collect(),
            logprobs: Vec::new(),
        })
    }

    fn end() -> Event {
        Event::Ended {
            choice: 0,
            text: "".into(),
            reason: EndReason::SlowReader,
            metrics: Box::default(),
        }
    }

    fn frame(events: Vec<(CallNumber, Event)>) -> Frame {
        Frame {
            events,
            ..Frame::default()
        }
    }

    /// Returns a teller, the other side of its socket, and the calls that it cancelled.
    fn connected() -> (Arc<EventSender>, UnixStream, Arc<Mutex<Vec<CallNumber>>>) {
        let (ours, theirs) = UnixStream::pair().unwrap();
        let cancelled = Arc::new(Mutex::new(Vec::new()));
        let noted = cancelled.clone();
        let command = move |command: EngineCommand| {
            if let EngineCommand::Cancel { call, .. } = command {
                noted.lock().unwrap().push(call);
            }
        };
        let event_sender = Arc::new(EventSender::new(command, || ()));
        let cleared = event_sender.clone();
        event_sender.connect(SendBuffer::start(&ours, move || cleared.cleared()).unwrap());
        (event_sender, theirs, cancelled)
    }

    /// Reads until so many events have come, and confirms what was read.
    fn read(event_sender: &EventSender, socket: &mut impl Read, count: usize) -> Vec<(CallNumber, Event)> {
        let (mut events, mut buffer) = (Vec::new(), Vec::new());
        while events.len() < count {
            match message::read(socket, MOST_FROM_WORKER, &mut buffer).unwrap() {
                ToService::Events(frame, _) => events.extend(frame.events),
                other => panic!("{other:?}"),
            }
            event_sender.read(buffer.len() + message::LENGTH);
        }
        events
    }

    #[test]
    fn everything_is_told_once_and_in_order_however_slowly_it_is_read() {
        let (event_sender, mut socket, cancelled) = connected();
        let told: Vec<(CallNumber, Event)> = (0..60_000).map(|number| (number % 50, piece(number as u32))).collect();
        for part in told.chunks(7) {
            assert_eq!(event_sender.take(&mut frame(part.to_vec())), None);
        }
        assert_eq!(read(&event_sender, &mut socket, told.len()), told);
        assert!(cancelled.lock().unwrap().is_empty());
    }

    #[test]
    fn calls_that_nobody_reads_are_cancelled_and_their_ends_told() {
        let (event_sender, mut socket, cancelled) = connected();
        let mut sent = 0;
        while cancelled.lock().unwrap().is_empty() {
            event_sender.take(&mut frame(vec![(1, piece(sent)); 50]));
            event_sender.take(&mut frame(vec![(2, piece(sent))]));
            sent += 1;
            assert!(sent < 100_000, "it keeps all of it");
        }
        assert_eq!(*cancelled.lock().unwrap(), [1]);
        event_sender.take(&mut frame(vec![(1, piece(0)), (1, end()), (2, end())]));
        let mut come = Vec::new();
        while come.last() != Some(&(2, end())) {
            come.extend(read(&event_sender, &mut socket, 1));
        }
        let of = |call: CallNumber| come.iter().filter(move |(of, _)| *of == call);
        assert_eq!(of(2).count(), sent as usize + 1, "a call with few events is sent whole");
        assert!(of(1).count() < 50 * sent as usize);
        assert_eq!(of(1).next_back(), Some(&(1, end())));
    }

    #[test]
    fn scores_of_a_long_prompt_span_messages() {
        let (event_sender, mut socket, _) = connected();
        let score = |id: u32| (TokenLogprob { id, logprob: -1.5 }, Vec::new());
        let all: Vec<_> = (0..2 * MOST_SCORES as u32 + 3).map(score).collect();
        let event = Event::Prompt {
            choice: 2,
            logprobs: all.clone(),
        };
        event_sender.take(&mut frame(vec![(9, event)]));
        let (mut come, mut buffer) = (Vec::new(), Vec::new());
        while come.len() < all.len() {
            match message::read(&mut socket, MOST_FROM_WORKER, &mut buffer).unwrap() {
                ToService::Scores(9, 2, part) => come.extend(part),
                ToService::Events(frame, _) => match &frame.events[..] {
                    [(9, Event::Prompt { choice: 2, logprobs })] => come.extend(logprobs.clone()),
                    other => panic!("{other:?}"),
                },
                other => panic!("{other:?}"),
            }
        }
        assert_eq!(come, all);
    }

    #[test]
    fn records_of_wide_steps_that_wait_stay_within_a_message() {
        let (event_sender, mut socket, _) = connected();
        let lane = |lane| LaneRecord {
            lane,
            sequence: u64::MAX,
            kind: RowKind::Decode,
            tokens: usize::MAX,
            reused: usize::MAX,
            order: None,
        };
        let wide = |number| StepRecord {
            number,
            lanes: (0..4_096).map(lane).collect(),
            ..StepRecord::default()
        };
        // The credit ends long before.
        for number in 0..MOST_RECORDS as u64 {
            let record = Some(wide(number));
            event_sender.take(&mut Frame {
                record,
                ..Frame::default()
            });
        }
        let (mut last, mut buffer) = (None, Vec::new());
        while last != Some(MOST_RECORDS as u64 - 1) {
            let ToService::Events(frame, earlier) = message::read(&mut socket, MOST_FROM_WORKER, &mut buffer).unwrap()
            else {
                panic!("it tells something else");
            };
            event_sender.read(buffer.len() + message::LENGTH);
            let numbers = earlier.iter().chain(&frame.record).map(|record| record.number);
            for number in numbers {
                assert!(last.replace(number) < Some(number), "records come in order");
            }
        }
    }

    #[test]
    fn long_scores_of_many_prompts_span_messages_that_can_be_read() {
        let (event_sender, mut socket, _) = connected();
        let probable = |id: u32| TokenLogprob { id, logprob: -1.5 };
        let score = |_| (probable(u32::MAX), (0..20).map(|_| probable(u32::MAX)).collect());
        let event = Event::Prompt {
            choice: 0,
            logprobs: (0..4_000).map(score).collect(),
        };
        let told: Vec<(CallNumber, Event)> = (0..30).map(|call| (call, event.clone())).collect();
        event_sender.take(&mut frame(told.clone()));
        assert_eq!(read(&event_sender, &mut socket, told.len()), told);
    }

    #[test]
    fn nothing_is_kept_for_somebody_who_has_gone() {
        let (event_sender, _, _) = connected();
        event_sender.holds(1, 1);
        event_sender.disconnect();
        event_sender.take(&mut frame(vec![(1, piece(0))]));
        assert_eq!(event_sender.held(), [1]);
        event_sender.take(&mut frame(vec![(1, end())]));
        assert!(event_sender.held().is_empty());
        assert!(event_sender.lock().frame.events.is_empty());
    }
}
