//! The engine without clock, thread or channel: inputs in, effects out.

use super::frame::{CallNumber, EngineCommand, EngineStatus, Frame};
use super::live::{Live, Times};
use super::logprobs_of_prompt::LogprobsOfPrompt;
use crate::executor::{BatchRow, RowResult, StepBatch, StepResult, Want};
use crate::head::SequenceHead;
use crate::micros::Micros;
use crate::pages::{ChainKey, chain_start};
use crate::queue::retry_after;
use crate::record::{AdmittedRecord, LaneRecord, StepRecord};
use crate::request::{EndReason, Event, GenerationRequest, Piece, Refusal};
use crate::scheduler::{Arrival, Limits, PlannedRow, Rejection, RowKind, RowOutcome, Scheduler, SequenceId, StepPlan};
use crate::token::TokenLogprobs;
use crate::token::Tokens;
use compact_str::CompactString;
use std::collections::HashMap;
use std::sync::Arc;
use vastrelay_text::TokenPieces;

/// Something that concerns an engine.
pub enum Input {
    /// A caller wants something.
    Command(EngineCommand),
    /// The step under way has ended well.
    Step(StepResult),
    /// Nothing more has come in: the next step may begin where none is under way.
    Begin,
}

/// What an input brings about. It is filled anew again and again, so that its memory serves long.
#[derive(Default)]
pub struct Effects {
    /// What is to be told.
    pub frame: Frame,
    /// Whether that has the first token of an answer, which is told before anything else is done.
    pub is_awaited: bool,
    /// A step to run.
    pub batch: Option<Arc<StepBatch>>,
    /// A record that nobody needs any more, for its memory.
    pub spare: Option<StepRecord>,
    /// Set when the engine can do no more.
    pub failure: Option<String>,
}

/// Scheduler, sequence heads and figures of one model: everything but the device and the time.
pub struct EngineCore {
    pieces: Arc<TokenPieces>,
    scheduler: Scheduler,
    build: String,
    next_sequence: u64,
    live: HashMap<SequenceId, Live>,
    /// Sequences of each call that have not ended.
    calls: HashMap<CallNumber, Vec<SequenceId>>,
    status: EngineStatus,
    plan: StepPlan,
    /// When the step under way was planned.
    begun: Option<Micros>,
    /// Whether any row has brought a token or a score.
    is_sound: bool,
    /// Whether the last plan had nothing to compute, and nothing has come in since.
    is_stalled: bool,
    batch: Arc<StepBatch>,
    outcomes: Vec<RowOutcome>,
    /// Sequences at their end, with their last text.
    ending: Vec<(SequenceId, CompactString, EndReason)>,
}

impl EngineCore {
    /// Returns an engine with nothing to do. `build` names what the weights are; equal prompts of equal builds may share KV pages.
    ///
    /// # Panics
    /// When the limits are not usable; see [`Scheduler::new`].
    pub fn new(pieces: Arc<TokenPieces>, limits: Limits, build: String) -> EngineCore {
        let scheduler = Scheduler::new(limits);
        EngineCore {
            pieces,
            status: EngineStatus {
                residence: 1.0,
                occupancy: scheduler.occupancy(),
                ..EngineStatus::default()
            },
            scheduler,
            build,
            next_sequence: 0,
            live: HashMap::new(),
            calls: HashMap::new(),
            plan: StepPlan::default(),
            begun: None,
            is_sound: false,
            is_stalled: false,
            batch: Arc::default(),
            outcomes: Vec::new(),
            ending: Vec::new(),
        }
    }

    /// Returns whether a step is under way.
    pub fn is_stepping(&self) -> bool {
        self.begun.is_some()
    }

    /// Returns whether [`Input::Begin`] could begin a step, or end something that is due.
    pub fn has_work(&self) -> bool {
        !self.is_stepping() && !self.scheduler.is_idle() && !self.is_stalled
    }

    /// Returns when something is due though nothing comes in.
    pub fn next_deadline(&self) -> Option<Micros> {
        self.scheduler.next_deadline()
    }

    /// Returns how things stand.
    pub fn status(&self) -> &EngineStatus {
        &self.status
    }

    /// Takes an input and adds what it brings about.
    ///
    /// # Panics
    /// When a step has ended though none was under way, or not with the rows that it was given.
    pub fn handle(&mut self, input: Input, now: Micros, effects: &mut Effects) {
        self.is_stalled &= matches!(input, Input::Begin | Input::Command(EngineCommand::Ping));
        match input {
            Input::Command(EngineCommand::Submit {
                call,
                requests,
                arrived,
            }) => {
                let answer = self.submit(call, requests, arrived, now);
                effects.frame.answers.push((call, answer));
            }
            Input::Command(EngineCommand::Cancel { call, reason }) => self.cancel(call, reason),
            Input::Command(EngineCommand::Ping) => effects.frame.pong = true,
            Input::Step(result) => self.settle_step(result, now, effects),
            Input::Begin if self.begun.is_none() => self.begin(now, effects),
            Input::Begin => {}
        }
        self.status.occupancy = self.scheduler.occupancy();
        effects.frame.status.clone_from(&self.status);
    }

    fn cancel(&mut self, call: CallNumber, reason: EndReason) {
        for id in self.calls.get(&call).into_iter().flatten() {
            if let Some(live) = self.live.get_mut(id) {
                live.cancelled.get_or_insert(reason);
            }
            self.scheduler.cancel(*id);
        }
    }

    /// Puts the completions of a call's requests into the queue, all or none.
    fn submit(
        &mut self,
        call: CallNumber,
        requests: Vec<GenerationRequest>,
        arrived: Micros,
        now: Micros,
    ) -> Result<(), Refusal> {
        let mut ids: Vec<SequenceId> = Vec::new();
        let mut first_choice = 0;
        for request in requests {
            let (request, choices) = (Arc::new(request), first_choice);
            first_choice += request.choices;
            if let Err(rejection) = self.enqueue(call, &request, choices, arrived, now, &mut ids) {
                ids.iter().for_each(|id| self.scheduler.cancel(*id));
                ids.iter().for_each(|id| drop(self.live.remove(id)));
                return Err(self.refusal(rejection));
            }
        }
        self.calls.insert(call, ids);
        Ok(())
    }

    /// Puts the completions of a request into the queue that have not ended.
    fn enqueue(
        &mut self,
        call: CallNumber,
        request: &Arc<GenerationRequest>,
        first_choice: u32,
        arrived: Micros,
        now: Micros,
        ids: &mut Vec<SequenceId>,
    ) -> Result<(), Rejection> {
        let scope = self.scope(&request.adapter, &request.cache_scope);
        let mut first = None;
        for choice in 0..request.choices {
            let emitted = match request.emitted.get(choice as usize) {
                Some(emitted) if emitted.ended => continue,
                Some(emitted) => emitted.ids.as_slice(),
                None => &[],
            };
            let id = SequenceId(self.next_sequence);
            let logprobs_of_prompt = LogprobsOfPrompt::new(request, choice);
            self.scheduler.arrive(
                Arrival {
                    id,
                    prompt: request.prompt.clone(),
                    emitted: emitted.to_vec(),
                    // Score-only requests still reserve one token.
                    most_output: request.most_tokens.max(1),
                    priority: request.priority,
                    deadline: request.time_limit.map(|limit| arrived + limit.as_micros() as Micros),
                    scope,
                    reads_all: logprobs_of_prompt.is_some(),
                    fork_of: first.filter(|_| emitted.is_empty()),
                    awaits_constraint: false,
                    drafts: 0,
                },
                // Whoever has waited elsewhere waits no longer than others here.
                arrived.min(now),
            )?;
            self.next_sequence += 1;
            first.get_or_insert(id);
            ids.push(id);
            let mut head = SequenceHead::new(request.clone(), choice, self.pieces.clone());
            head.resume(emitted);
            let live = Live {
                call,
                name: request.name.clone(),
                choice: first_choice + choice,
                head,
                logprobs_of_prompt,
                cancelled: None,
                times: Times::new(arrived, request.prompt.len(), emitted.len()),
            };
            self.live.insert(id, live);
        }
        Ok(())
    }

    fn refusal(&self, rejection: Rejection) -> Refusal {
        match rejection {
            Rejection::TooLong { wanted, limit } => Refusal::TooLong { wanted, limit },
            Rejection::QueueFull { depth } => Refusal::QueueFull {
                depth,
                retry_after: retry_after(depth, self.scheduler.limits().width, self.status.residence),
            },
        }
    }

    fn scope(&self, adapter: &str, cache_scope: &str) -> ChainKey {
        chain_start(&[self.build.as_bytes(), adapter.as_bytes(), cache_scope.as_bytes()])
    }

    /// Plans the next step and hands it out, if there is something to compute.
    fn begin(&mut self, now: Micros, effects: &mut Effects) {
        let mut plan = std::mem::take(&mut self.plan);
        self.scheduler.plan(now, &mut plan);
        self.settle_plan(&plan, now, &mut effects.frame);
        self.is_stalled = plan.rows.is_empty();
        self.status.step_tokens = plan.rows.iter().map(|row| row.tokens).sum();
        if !self.is_stalled {
            self.begun = Some(now);
            self.fill_batch(&plan);
            effects.batch = Some(self.batch.clone());
        }
        self.plan = plan;
    }

    /// Tells sequences what the plan means for them.
    fn settle_plan(&mut self, plan: &StepPlan, now: Micros, frame: &mut Frame) {
        for (id, reused) in &plan.admitted {
            let live = self.live.get_mut(id).expect("an admitted sequence lives");
            if live.times.admitted.is_none() {
                live.times.admitted = Some(now);
                live.times.reused = *reused;
                let event = Event::Admitted { choice: live.choice };
                frame.events.push((live.call, event));
            }
        }
        for (id, _) in &plan.preempted {
            let live = self.live.get_mut(id).expect("a preempted sequence lives");
            live.times.preemptions += 1;
        }
        for (id, reason) in &plan.ended {
            // A refused call's sequences have no live part any more.
            if let Some(live) = self.live.get_mut(id) {
                let text = live.head.rest();
                let reason = live
                    .cancelled
                    .filter(|_| *reason == EndReason::Cancelled)
                    .unwrap_or(*reason);
                self.end(*id, text, reason, now, frame);
            }
        }
    }

    /// Writes the plan as a batch for the executor.
    fn fill_batch(&mut self, plan: &StepPlan) {
        let EngineCore {
            batch, scheduler, live, ..
        } = self;
        let row = |row: &PlannedRow| {
            let live = &live[&row.sequence];
            BatchRow {
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
                logprobs: live.logprobs_of_prompt.as_ref().map(|logprobs| logprobs.scores_of(row)),
            }
        };
        let StepBatch { copies, rows } = Arc::make_mut(batch);
        copies.clone_from(&plan.copies);
        rows.clear();
        rows.extend(plan.rows.iter().map(row));
    }

    /// Hands the new tokens to their heads and readers, and the outcome to the scheduler.
    fn settle_step(&mut self, result: StepResult, now: Micros, effects: &mut Effects) {
        let begun = self.begun.take().expect("a step is under way");
        self.status.step_tokens = 0;
        // What rows have of their heads is the heads' alone again.
        Arc::make_mut(&mut self.batch).rows.clear();
        let plan = std::mem::take(&mut self.plan);
        assert_eq!(plan.rows.len(), result.rows.len(), "a result for each row");
        let mut outcomes = std::mem::take(&mut self.outcomes);
        outcomes.clear();
        let not_finite = result.rows.iter().any(|row| row.not_finite);
        let sound = |row: &RowResult| !row.chosen.is_empty() || !row.logprobs.is_empty();
        self.is_sound |= result.rows.iter().any(|row| !row.not_finite && sound(row));
        for (row, result) in plan.rows.iter().zip(result.rows) {
            outcomes.push(self.advance(row, result, now, effects));
        }
        let record = self.record(&plan, &outcomes, begun, now, effects.spare.take());
        effects.frame.record = Some(record);
        self.scheduler.complete(&outcomes, result.took);
        let mut ending = std::mem::take(&mut self.ending);
        for (id, text, reason) in ending.drain(..) {
            self.end(id, text, reason, now, &mut effects.frame);
        }
        (self.ending, self.outcomes, self.plan) = (ending, outcomes, plan);
        // One request may drive a sound model to its limits; a model that never computed a number is not sound.
        if not_finite && !self.is_sound {
            effects.failure =
                Some("its weights are broken: it has brought no token and no score yet and computes NaN".into());
        }
    }

    /// Gives a sequence its new tokens.
    fn advance(&mut self, row: &PlannedRow, result: RowResult, now: Micros, effects: &mut Effects) -> RowOutcome {
        let frame = &mut effects.frame;
        let mut outcome = RowOutcome {
            sequence: row.sequence,
            tokens: Tokens::new(),
            ended: false,
        };
        let live = self.live.get_mut(&row.sequence).expect("a planned sequence lives");
        live.settle_prompt(row, result.logprobs, frame);
        let mut end = None;
        if row.samples && !live.head.wants_more() {
            end = Some((CompactString::default(), EndReason::Length));
        }
        if result.not_finite {
            end = Some((live.head.rest(), EndReason::NotFinite));
        }
        let mut piece = Piece {
            choice: live.choice,
            text: CompactString::default(),
            ids: Tokens::new(),
            logprobs: Vec::new(),
        };
        for chosen in result.chosen {
            effects.is_awaited |= live.times.token(now);
            let accepted = live.head.accept(chosen.id);
            outcome.tokens.push(chosen.id);
            piece.ids.push(chosen.id);
            piece.logprobs.extend(chosen.logprobs);
            match piece.text.is_empty() {
                true => piece.text = accepted.text,
                false => piece.text.push_str(&accepted.text),
            }
            if let Some(reason) = accepted.end {
                end = Some((CompactString::default(), reason));
                break;
            }
        }
        if !piece.ids.is_empty() {
            frame.events.push((live.call, Event::Piece(piece)));
        }
        if let Some((text, reason)) = end {
            outcome.ended = true;
            self.ending.push((row.sequence, text, reason));
        }
        outcome
    }

    fn end(&mut self, id: SequenceId, text: CompactString, reason: EndReason, now: Micros, frame: &mut Frame) {
        let live = self.live.remove(&id).expect("it ends once");
        if let Some(ids) = self.calls.get_mut(&live.call) {
            ids.retain(|other| *other != id);
            if ids.is_empty() {
                self.calls.remove(&live.call);
            }
        }
        let metrics = live.times.metrics(!live.head.wants_more(), now);
        // One that never ran tells nothing of how long those take that do.
        let ran = metrics.total - metrics.queued;
        if ran > 0.0 {
            self.status.residence = 0.9 * self.status.residence + 0.1 * ran;
        }
        self.status.ended += 1;
        let event = Event::Ended {
            choice: live.choice,
            text,
            reason,
            metrics: Box::new(metrics),
        };
        frame.events.push((live.call, event));
    }

    /// Returns the step's record, in the memory of another one, and counts it.
    fn record(
        &mut self,
        plan: &StepPlan,
        outcomes: &[RowOutcome],
        begun: Micros,
        now: Micros,
        spare: Option<StepRecord>,
    ) -> StepRecord {
        let occupancy = self.scheduler.occupancy();
        let reused: HashMap<SequenceId, usize> = plan.admitted.iter().copied().collect();
        let lane = |row: &PlannedRow| LaneRecord {
            lane: row.lane,
            sequence: row.sequence.0,
            kind: row.kind,
            tokens: row.tokens,
            reused: reused.get(&row.sequence).copied().unwrap_or(0),
            order: row.order,
        };
        let mut record = spare.unwrap_or_default();
        record.clear();
        record.number = plan.number;
        record.at = begun as f64 / 1e6;
        record.duration = now.saturating_sub(begun) as f64 / 1e6;
        record.lanes.extend(plan.rows.iter().map(lane));
        let admitted = plan.admitted.iter().filter_map(|(id, _)| {
            let request = self.live.get(id)?.name.clone();
            Some(AdmittedRecord {
                sequence: id.0,
                request,
            })
        });
        record.admitted.extend(admitted);
        let preempted = plan.preempted.iter().map(|(id, cause)| (id.0, *cause));
        record.preempted.extend(preempted);
        record.waiting = occupancy.queue_depth;
        record.pages_used = occupancy.pages_used;
        let prefill = plan.rows.iter().filter(|row| row.kind == RowKind::Prefill);
        let status = &mut self.status;
        status.steps = plan.number;
        status.busy += record.duration;
        status.prefill_tokens += prefill.map(|row| row.tokens as u64).sum::<u64>();
        status.output_tokens += outcomes.iter().map(|outcome| outcome.tokens.len() as u64).sum::<u64>();
        status.preemptions += plan.preempted.len() as u64;
        record
    }
}

impl Live {
    /// Takes the logprobs of a prompt's tokens, and tells all of them when they are whole.
    fn settle_prompt(&mut self, row: &PlannedRow, told: Vec<TokenLogprobs>, frame: &mut Frame) {
        let Some(logprobs) = &mut self.logprobs_of_prompt else {
            return;
        };
        logprobs.take(row, told);
        if !logprobs.is_whole() {
            return;
        }
        let known = self.logprobs_of_prompt.take().map(LogprobsOfPrompt::into_known);
        let event = Event::Prompt {
            choice: self.choice,
            logprobs: known.unwrap_or_default(),
        };
        frame.events.push((self.call, event));
    }
}
