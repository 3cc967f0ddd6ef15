//! The engine's thread.

use super::prompt_scores::PromptScores;
use super::{Command, Shared, Submission, lock};
use crate::executor::{Executor, Row, RowResult, StepBatch, StepResult, Tokens, Want};
use crate::head::SequenceHead;
use crate::pages::{ChainKey, chain_start};
use crate::record::{AdmittedRecord, LaneRecord};
use crate::request::{EndReason, Event, Figures, Piece, Refusal, Scored};
use crate::scheduler::{Arrival, Limits, Moment, PlannedRow, Rejection, RowOutcome, Scheduler, SequenceId, StepPlan};
use compact_str::CompactString;
use std::collections::HashMap;
use std::sync::Arc;
use std::sync::mpsc::{Receiver, RecvTimeoutError};
use std::time::{Duration, Instant};
use tokio::sync::mpsc;
use tokio::sync::mpsc::error::TrySendError;
use vastrelay_kernels::attention::PAGE_TOKENS;
use vastrelay_text::TokenPieces;

pub(super) struct Runner {
    executor: Box<dyn Executor>,
    pieces: Arc<TokenPieces>,
    scheduler: Scheduler,
    build: String,
    inbox: Receiver<Command>,
    shared: Arc<Shared>,
    next_sequence: u64,
    live: HashMap<SequenceId, Live>,
    /// Sequences of each request that have not ended.
    requests: HashMap<u64, Vec<SequenceId>>,
    /// Mean seconds that a completion stays in the batch, over the recent ones.
    residence: f64,
    /// Whether the last plan had nothing to compute.
    stalled: bool,
    /// Of the last step, for the memory of the next one.
    batch: Arc<StepBatch>,
    outcomes: Vec<RowOutcome>,
}

/// A sequence beside its scheduler entry.
struct Live {
    request: u64,
    name: String,
    choice: u32,
    head: SequenceHead,
    /// Until they are told.
    prompt_scores: Option<PromptScores>,
    events: mpsc::Sender<Event>,
    /// Room for the last event, which arrives even when the reader is slow.
    last_event: mpsc::OwnedPermit<Event>,
    arrived: Instant,
    admitted: Option<Instant>,
    first_token: Option<Instant>,
    last_token: Option<Instant>,
    largest_gap: f64,
    prompt_tokens: usize,
    reused: usize,
    output_tokens: usize,
    preemptions: u32,
    slow: bool,
}

/// Whether the loop goes on.
#[derive(PartialEq, Eq)]
enum Flow {
    Continue,
    Stop,
}

impl Runner {
    pub fn new(
        executor: Box<dyn Executor>,
        pieces: Arc<TokenPieces>,
        limits: Limits,
        build: String,
        inbox: Receiver<Command>,
        shared: Arc<Shared>,
    ) -> Runner {
        let mut runner = Runner {
            executor,
            pieces,
            scheduler: Scheduler::new(limits),
            build,
            inbox,
            shared,
            next_sequence: 0,
            live: HashMap::new(),
            requests: HashMap::new(),
            residence: 1.0,
            stalled: false,
            batch: Arc::default(),
            outcomes: Vec::new(),
        };
        runner.publish_occupancy();
        runner
    }

    /// Runs until it is told to stop, nobody can send commands any more, or the device fails.
    pub fn run(&mut self) {
        let mut plan = StepPlan::default();
        while self.take_commands() == Flow::Continue {
            let begun = Instant::now();
            self.scheduler.plan(self.now(), &mut plan);
            // Publish occupancy before the events, so readers see matching figures.
            self.publish_occupancy();
            self.settle_plan(&plan);
            self.stalled = plan.rows.is_empty();
            if self.stalled {
                continue;
            }
            self.fill_batch(&plan);
            let handle = self.executor.submit(self.batch.clone());
            let result = handle.and_then(|handle| self.executor.wait(handle));
            // What rows have of their heads is the heads' alone again.
            Arc::make_mut(&mut self.batch).rows.clear();
            match result {
                Ok(result) => {
                    let not_finite = self.settle_step(&plan, result, begun);
                    // One request may drive a sound model to its limits; a model that never produced a token is not sound.
                    if not_finite && lock(&self.shared.status).output_tokens == 0 {
                        return self.fail("its weights are broken: it has produced no token yet and computes NaN");
                    }
                }
                Err(error) => return self.fail(&error.to_string()),
            }
        }
    }

    /// Takes what has come in; waits for something when there is nothing to compute.
    fn take_commands(&mut self) -> Flow {
        while self.scheduler.is_idle() {
            match self.inbox.recv() {
                Ok(command) => {
                    if self.take(command) == Flow::Stop {
                        return Flow::Stop;
                    }
                }
                Err(_) => return Flow::Stop,
            }
        }
        // Sequences that cannot run yet, as they wait for a constraint, must not make the loop spin.
        let mut patience = if self.stalled {
            Duration::from_millis(1)
        } else {
            Duration::ZERO
        };
        loop {
            match self.inbox.recv_timeout(patience) {
                Ok(command) => {
                    if self.take(command) == Flow::Stop {
                        return Flow::Stop;
                    }
                    patience = Duration::ZERO;
                }
                Err(RecvTimeoutError::Timeout) => return Flow::Continue,
                Err(RecvTimeoutError::Disconnected) => return Flow::Stop,
            }
        }
    }

    fn take(&mut self, command: Command) -> Flow {
        match command {
            Command::Submit(submission) => self.accept(*submission),
            Command::Cancel(request) => {
                for id in self.requests.get(&request).into_iter().flatten() {
                    self.scheduler.cancel(*id);
                }
            }
            Command::Stop => return Flow::Stop,
        }
        Flow::Continue
    }

    /// Puts a request's completions into the queue, all or none.
    fn accept(&mut self, submission: Submission) {
        let Submission {
            request,
            number,
            events,
            accepted,
            arrived,
        } = submission;
        let request = Arc::new(request);
        let scope = self.scope(&request.adapter, &request.cache_salt);
        let mut ids: Vec<SequenceId> = Vec::new();
        for choice in 0..request.choices {
            let id = SequenceId(self.next_sequence);
            let arrival = Arrival {
                id,
                prompt: request.prompt.clone(),
                // Score-only requests still reserve one token.
                most_output: request.most_tokens.max(1),
                priority: request.priority,
                deadline: request.time_limit.map(|limit| self.now() + limit.as_micros() as Moment),
                scope,
                reads_all: choice == 0 && request.score_prompt.is_some(),
                fork_of: ids.first().copied(),
                awaits_constraint: false,
                drafts: 0,
            };
            if let Err(rejection) = self.scheduler.arrive(arrival, self.now()) {
                ids.iter().for_each(|id| self.scheduler.cancel(*id));
                ids.iter().for_each(|id| drop(self.live.remove(id)));
                let _ = accepted.send(Err(self.refusal(rejection)));
                return;
            }
            self.next_sequence += 1;
            ids.push(id);
            let live = Live {
                request: number,
                name: request.name.clone(),
                choice,
                head: SequenceHead::new(request.clone(), choice, self.pieces.clone()),
                prompt_scores: PromptScores::new(&request, choice),
                events: events.clone(),
                last_event: events
                    .clone()
                    .try_reserve_owned()
                    .expect("the channel has room for each completion's end"),
                arrived,
                admitted: None,
                first_token: None,
                last_token: None,
                largest_gap: 0.0,
                prompt_tokens: request.prompt.len(),
                reused: 0,
                output_tokens: 0,
                preemptions: 0,
                slow: false,
            };
            self.live.insert(id, live);
        }
        self.requests.insert(number, ids);
        if accepted.send(Ok(())).is_err() {
            // The caller gave up before it heard; its cancellation may have come too early to find the request.
            let _ = self.take(Command::Cancel(number));
        }
        self.publish_occupancy();
    }

    fn refusal(&self, rejection: Rejection) -> Refusal {
        match rejection {
            Rejection::TooLong { wanted, limit } => Refusal::TooLong { wanted, limit },
            Rejection::QueueFull { depth } => Refusal::queue_full(depth, self.scheduler.limits().width, self.residence),
        }
    }

    fn scope(&self, adapter: &str, salt: &str) -> ChainKey {
        chain_start(&[self.build.as_bytes(), b"kv f32", adapter.as_bytes(), salt.as_bytes()])
    }

    /// Tells sequences what the plan means for them.
    fn settle_plan(&mut self, plan: &StepPlan) {
        for (id, reused) in &plan.admitted {
            let live = self.live.get_mut(id).expect("an admitted sequence lives");
            if live.admitted.is_none() {
                live.admitted = Some(Instant::now());
                live.reused = *reused;
                let event = Event::Admitted { choice: live.choice };
                self.send(*id, event);
            }
        }
        for (id, _) in &plan.preempted {
            self.live.get_mut(id).expect("a preempted sequence lives").preemptions += 1;
        }
        for (id, reason) in &plan.ended {
            // A refused request's sequences have no live part any more.
            if let Some(live) = self.live.get_mut(id) {
                let text = live.head.rest();
                let reason = if live.slow { EndReason::SlowReader } else { *reason };
                self.end(*id, text, reason);
            }
        }
    }

    /// Writes the plan as a batch for the executor.
    fn fill_batch(&mut self, plan: &StepPlan) {
        let Runner {
            batch, scheduler, live, ..
        } = self;
        let row = |row: &PlannedRow| {
            let live = &live[&row.sequence];
            Row {
                slot: row.lane,
                tables: scheduler.table_changes(row.sequence),
                whole: cfg!(debug_assertions).then(|| scheduler.pages(row.sequence)),
                tokens: scheduler.tokens(row.sequence)[row.start..row.start + row.tokens].into(),
                drafts: 0,
                start: row.start,
                want: if row.samples && live.head.wants_more() {
                    Want::Token(live.head.next_choice())
                } else {
                    Want::Nothing
                },
                scores: live.prompt_scores.as_ref().map(|scores| scores.wanted(row)),
            }
        };
        let StepBatch { copies, rows } = Arc::make_mut(batch);
        copies.clone_from(&plan.copies);
        rows.clear();
        rows.extend(plan.rows.iter().map(row));
    }

    /// Hands the new tokens to their heads and readers, and the outcome to the scheduler.
    ///
    /// Returns whether the model computed something that is not a number.
    fn settle_step(&mut self, plan: &StepPlan, result: StepResult, begun: Instant) -> bool {
        let now = Instant::now();
        let mut outcomes = std::mem::take(&mut self.outcomes);
        outcomes.clear();
        let mut ended = Vec::new();
        let not_finite = result.rows.iter().any(|row| row.not_finite);
        for (row, result) in plan.rows.iter().zip(result.rows) {
            let (outcome, end) = self.advance(row, result, now);
            ended.extend(end.map(|(text, reason)| (row.sequence, text, reason)));
            outcomes.push(outcome);
        }
        self.record(plan, &outcomes, begun);
        self.scheduler.complete(&outcomes);
        self.outcomes = outcomes;
        self.publish_occupancy();
        // Sent last: whoever hears of the end finds its pages given back.
        for (id, text, reason) in ended {
            self.end(id, text, reason);
        }
        not_finite
    }

    /// Gives a sequence its new tokens; returns the outcome, and the last text and the reason when it is at its end.
    fn advance(
        &mut self,
        row: &PlannedRow,
        result: RowResult,
        now: Instant,
    ) -> (RowOutcome, Option<(CompactString, EndReason)>) {
        let mut outcome = RowOutcome {
            sequence: row.sequence,
            tokens: Tokens::new(),
            ended: false,
        };
        let mut end = None;
        self.settle_scores(row, result.scores);
        let live = self.live.get_mut(&row.sequence).expect("a planned sequence lives");
        if row.samples && !live.head.wants_more() {
            outcome.ended = true;
            end = Some((CompactString::default(), EndReason::Length));
        }
        if result.not_finite {
            outcome.ended = true;
            end = Some((live.head.rest(), EndReason::NotFinite));
        }
        let mut piece = Piece {
            choice: live.choice,
            text: CompactString::default(),
            ids: Tokens::new(),
            logprobs: Vec::new(),
        };
        for chosen in result.chosen {
            live.count_token(now);
            let accepted = live.head.accept(chosen.id);
            outcome.tokens.push(chosen.id);
            piece.ids.push(chosen.id);
            piece.logprobs.extend(chosen.logprobs);
            match piece.text.is_empty() {
                true => piece.text = accepted.text,
                false => piece.text.push_str(&accepted.text),
            }
            if let Some(reason) = accepted.end {
                outcome.ended = true;
                end = Some((CompactString::default(), reason));
                break;
            }
        }
        if !piece.ids.is_empty() {
            self.send(row.sequence, Event::Piece(piece));
        }
        (outcome, end)
    }

    /// Takes the scores of a prompt's tokens, and tells all of them when they are whole.
    fn settle_scores(&mut self, row: &PlannedRow, told: Vec<Scored>) {
        let live = self.live.get_mut(&row.sequence).expect("a planned sequence lives");
        let Some(scores) = &mut live.prompt_scores else { return };
        scores.take(row, told);
        if !scores.is_whole() {
            return;
        }
        let logprobs = live
            .prompt_scores
            .take()
            .map_or_else(Vec::new, PromptScores::into_known);
        let choice = live.choice;
        self.send(row.sequence, Event::Prompt { choice, logprobs });
    }

    /// Sends an event without waiting; a reader who is gone or too slow ends its sequence.
    fn send(&mut self, id: SequenceId, event: Event) {
        let live = self.live.get_mut(&id).expect("events come from live sequences");
        match live.events.try_send(event) {
            Ok(()) => {}
            Err(TrySendError::Closed(_)) => self.scheduler.cancel(id),
            Err(TrySendError::Full(_)) => {
                live.slow = true;
                self.scheduler.cancel(id);
            }
        }
    }

    fn end(&mut self, id: SequenceId, text: CompactString, reason: EndReason) {
        let live = self.live.remove(&id).expect("it ends once");
        if let Some(ids) = self.requests.get_mut(&live.request) {
            ids.retain(|other| *other != id);
            if ids.is_empty() {
                self.requests.remove(&live.request);
            }
        }
        let figures = live.figures(Instant::now());
        self.residence = 0.9 * self.residence + 0.1 * (figures.total - figures.queued);
        lock(&self.shared.status).ended += 1;
        let event = Event::Ended {
            choice: live.choice,
            text,
            reason,
            figures,
        };
        live.last_event.send(event);
    }

    fn record(&self, plan: &StepPlan, outcomes: &[RowOutcome], begun: Instant) {
        let occupancy = self.scheduler.occupancy();
        let reused: HashMap<SequenceId, usize> = plan.admitted.iter().copied().collect();
        let lane = |row: &PlannedRow| LaneRecord {
            lane: row.lane,
            sequence: row.sequence.0,
            kind: row.kind,
            tokens: row.tokens,
            reused: reused.get(&row.sequence).copied().unwrap_or(0),
        };
        let duration = begun.elapsed().as_secs_f64();
        let mut ring = lock(&self.shared.ring);
        let record = ring.add();
        record.number = plan.number;
        record.at = begun.duration_since(self.shared.started).as_secs_f64();
        record.duration = duration;
        record.lanes.extend(plan.rows.iter().map(lane));
        let admitted = plan.admitted.iter().filter_map(|(id, _)| self.admitted(*id));
        record.admitted.extend(admitted);
        let preempted = plan.preempted.iter().map(|(id, cause)| (id.0, *cause));
        record.preempted.extend(preempted);
        record.waiting = occupancy.queue_depth;
        record.pages_used = occupancy.pages_used;
        drop(ring);
        let prefill = |row: &&PlannedRow| row.kind == crate::scheduler::RowKind::Prefill;
        let mut status = lock(&self.shared.status);
        status.steps = plan.number;
        status.busy += duration;
        status.prefill_tokens += plan
            .rows
            .iter()
            .filter(prefill)
            .map(|row| row.tokens as u64)
            .sum::<u64>();
        status.output_tokens += outcomes.iter().map(|outcome| outcome.tokens.len() as u64).sum::<u64>();
        status.preemptions += plan.preempted.len() as u64;
    }

    fn admitted(&self, id: SequenceId) -> Option<AdmittedRecord> {
        let live = self.live.get(&id)?;
        Some(AdmittedRecord {
            sequence: id.0,
            request: live.name.clone(),
        })
    }

    fn publish_occupancy(&mut self) {
        let mut status = lock(&self.shared.status);
        status.occupancy = self.scheduler.occupancy();
        status.residence = self.residence;
    }

    /// Ends everything with a reason.
    pub fn fail(&mut self, reason: &str) {
        tracing::error!(reason, "the engine stops");
        lock(&self.shared.status).failure = Some(reason.to_owned());
        for (_, live) in self.live.drain() {
            live.last_event.send(Event::Failed(reason.to_owned()));
        }
    }

    fn now(&self) -> Moment {
        self.shared.started.elapsed().as_micros() as Moment
    }
}

impl Live {
    fn count_token(&mut self, now: Instant) {
        self.output_tokens += 1;
        if let Some(last) = self.last_token {
            self.largest_gap = self.largest_gap.max(now.duration_since(last).as_secs_f64());
        }
        self.first_token.get_or_insert(now);
        self.last_token = Some(now);
    }

    fn figures(&self, now: Instant) -> Figures {
        let between = |from: Option<Instant>, to: Option<Instant>| match (from, to) {
            (Some(from), Some(to)) => to.duration_since(from).as_secs_f64(),
            _ => 0.0,
        };
        let gaps = self.output_tokens.saturating_sub(1);
        // One that is wanted for its prompt alone has read it now.
        let read = self.first_token.or((!self.head.wants_more()).then_some(now));
        Figures {
            queued: between(Some(self.arrived), Some(self.admitted.unwrap_or(now))),
            prefill: between(self.admitted, read),
            ttft: between(Some(self.arrived), self.first_token),
            itl_mean: if gaps == 0 {
                0.0
            } else {
                between(self.first_token, self.last_token) / gaps as f64
            },
            itl_max: self.largest_gap,
            total: between(Some(self.arrived), Some(now)),
            prompt_tokens: self.prompt_tokens,
            reused_tokens: self.reused,
            pages_reused: self.reused / PAGE_TOKENS,
            output_tokens: self.output_tokens,
            preemptions: self.preemptions,
        }
    }
}
