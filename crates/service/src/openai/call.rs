//! One call from its arrival to its record.

use super::asked::Asked;
use super::events::Events;
use crate::access::redact::redact;
use crate::http::budget::Share;
use crate::http::guard::Permit;
use crate::http::problem::Problem;
use crate::http::recorded::recorded;
use crate::http::state::ServiceState;
use crate::openai::failover::{FailoverStream, Moves, Refused};
use actix_web::{HttpMessage, HttpRequest, web};
use std::sync::atomic::Ordering;
use std::sync::{Arc, OnceLock, PoisonError};
use std::time::{Duration, Instant};
use vastrelay_control::endpoints::lease::Lease;
use vastrelay_control::endpoints::visibility::Visibility;
use vastrelay_control::replicas::counters::{EndedCall, ReleaseMetrics};
use vastrelay_control::replicas::measured::MeasuredReplica;
use vastrelay_control::replicas::recent::Noted;
use vastrelay_engine::request::Piece;
use vastrelay_engine::{EndReason, Event, GenerationRequest, RequestMetrics};
use vastrelay_fleet::dispatch::KeyShare;
use vastrelay_store::{CallRecord, CallText, milliseconds_since_1970};

pub(super) use crate::http::guard::Caller;

/// The names of a request.
#[derive(Clone)]
pub struct RequestId {
    /// Our own id of it, unlike any other.
    pub id: String,
    /// The id that its caller gave.
    pub given: Option<String>,
}

impl RequestId {
    /// Returns what steps call it: our id and, after a space, the caller's.
    pub(super) fn in_steps(&self) -> String {
        match &self.given {
            Some(given) => format!("{} {given}", self.id),
            None => self.id.clone(),
        }
    }
}

/// When a request began to arrive at this machine.
#[derive(Clone, Copy)]
pub struct Arrival(pub Instant);

/// A call that is being answered. It is recorded when it is dropped, whatever became of it.
pub(super) struct Call {
    state: web::Data<ServiceState>,
    record: CallRecord,
    /// The replica that answers it; let go before the endpoint, whose last holder ends the engine.
    measured: Option<Arc<MeasuredReplica>>,
    /// Which endpoints the caller knows of.
    visibility: Visibility,
    key: KeyShare,
    /// Its endpoint, as soon as one is found.
    endpoint: Option<Lease>,
    arrived: Instant,
    /// How long it waited until its endpoint was started.
    start_wait: Duration,
    moves: Moves,
    gaps: Gaps,
    /// The completions' texts as they come, when they are kept.
    said: Option<Vec<String>>,
    running: Running,
}

/// A call's place among all that are running, given back when its answer has been sent.
#[derive(Clone)]
pub(super) struct Running {
    held: Arc<Held>,
}

struct Held {
    state: web::Data<ServiceState>,
    /// The key's place.
    _permit: Option<Permit>,
    /// Memory for a large answer.
    share: OnceLock<Share>,
}

impl Drop for Held {
    fn drop(&mut self) {
        self.state.service_run.active_calls.fetch_sub(1, Ordering::AcqRel);
    }
}

/// Times of a call that its completions share; in seconds.
#[derive(Clone, Copy)]
pub(super) struct CallTimes {
    /// From arrival until its endpoint was started.
    pub waiting_for_start: f64,
    /// From arrival to the first token of any completion, as the connection got it.
    pub ttft: f64,
}

/// Most bytes of a completion's text that are kept with the call.
const MOST_KEPT: usize = 256 << 10;
/// Most bytes that an answer may grow to.
const MOST_ANSWER: usize = 32 << 20;
/// Answers that cannot grow larger are not added up.
const SMALL_ANSWER: usize = 1 << 20;

impl Call {
    /// Begins a call.
    ///
    /// # Errors
    /// 503 when the service drains, 429 when the caller's key has used up its limits.
    pub fn begin(state: &web::Data<ServiceState>, http: &HttpRequest, operation: &str) -> Result<Call, Problem> {
        let extensions = http.extensions();
        let Arrival(arrived) = *extensions.get().expect("every request has its arrival");
        let RequestId { id, given } = extensions.get().expect("every request has its name");
        let caller: &Caller = extensions.get().expect("every request has passed the guard");
        let key = caller.key.as_ref();
        let record = CallRecord {
            id: id.clone(),
            given_id: given.clone().unwrap_or_default(),
            at_ms: milliseconds_since_1970(),
            operation: operation.into(),
            caller: key.map(|key| key.name.clone()).unwrap_or_default(),
            parameters: "{}".into(),
            status: 200,
            outcome: "client-gone".into(),
            client_gone: true,
            ..CallRecord::default()
        };
        state.service_run.active_calls.fetch_add(1, Ordering::AcqRel);
        let permit = match state.service_run.is_draining() {
            true => Err(Problem::draining()),
            false => caller.permit(&state.limits),
        };
        let (permit, refused) = match permit {
            Ok(permit) => (permit, None),
            Err(problem) => (None, Some(problem)),
        };
        let held = Held {
            state: state.clone(),
            _permit: permit,
            share: OnceLock::new(),
        };
        let call = Call {
            state: state.clone(),
            record,
            endpoint: None,
            visibility: caller.visibility(),
            key: caller.key_share(),
            measured: None,
            arrived,
            start_wait: Duration::ZERO,
            moves: Moves::default(),
            gaps: Gaps::default(),
            said: None,
            running: Running { held: Arc::new(held) },
        };
        match refused {
            Some(problem) => Err(call.refuse(problem)),
            None => Ok(call),
        }
    }

    /// Returns the name of the caller's key, empty without one.
    pub fn caller(&self) -> &str {
        &self.record.caller
    }

    /// Returns which endpoints the caller knows of.
    pub fn visibility(&self) -> &Visibility {
        &self.visibility
    }

    /// Notes that it waited so long until its endpoint was started.
    pub fn waited_for_start(&mut self, time: Duration) {
        self.start_wait += time;
        self.record.waiting_for_start = self.start_wait.as_secs_f64();
    }

    /// Returns its times as its record has them.
    pub fn times(&self) -> CallTimes {
        CallTimes {
            waiting_for_start: self.record.waiting_for_start,
            ttft: self.record.ttft,
        }
    }

    /// Notes what was asked for.
    pub fn asks(&mut self, asked: Asked) {
        self.endpoint = self
            .state
            .endpoints
            .called(&asked.model, &self.visibility, "a call")
            .ok();
        self.record.endpoint = asked.model;
        self.record.streamed = asked.streamed;
        self.record.parameters = asked.parameters;
        if let Some(prompt) = asked.prompt {
            let answer = String::new();
            self.record.text = Some(CallText { prompt, answer });
            self.said = Some(Vec::new());
        }
    }

    /// Takes memory for an answer of up to this many bytes, until it has been sent.
    ///
    /// # Errors
    /// 400 when it is too large, 503 when other answers need the memory.
    pub fn reserve(&self, bytes: usize) -> Result<(), Problem> {
        let mut share = self.state.answers.share(&self.key.id);
        if bytes > MOST_ANSWER {
            return Err(Problem::answer_too_large(bytes, MOST_ANSWER));
        }
        if bytes > SMALL_ANSWER && !share.grow(bytes) {
            return Err(Problem::too_many_answers());
        }
        // A call has one answer, so there is no share yet.
        let _ = self.running.held.share.set(share);
        Ok(())
    }

    /// Returns what keeps the caller's prompts apart from those of others in the cache: its key, unless the cache is shared.
    pub fn cache_scope(&self, http: &HttpRequest) -> String {
        let extensions = http.extensions();
        let key = extensions.get::<Caller>().and_then(|caller| caller.key.as_ref());
        let key = key.filter(|_| !self.state.options.shares_cache);
        key.map(|key| key.id.clone()).unwrap_or_default()
    }

    /// Returns the caller's key, as queues see it.
    pub fn key_share(&self) -> KeyShare {
        self.key.clone()
    }

    /// Returns the call's place among those that run, to be kept until the answer has been sent.
    pub fn running(&self) -> Running {
        self.running.clone()
    }

    /// Returns whether the answer is wanted in pieces.
    pub fn is_streamed(&self) -> bool {
        self.record.streamed
    }

    /// Notes that the call is refused, and hands the reason on.
    pub fn refuse(mut self, problem: Problem) -> Problem {
        self.note_failure(&problem);
        self.counters().refused(problem.code());
        problem
    }

    /// Notes that the call failed.
    pub fn note_failure(&mut self, problem: &Problem) {
        use actix_web::ResponseError;
        self.record.status = problem.status_code().as_u16();
        // A completion that broke off has said how already.
        let broke_off = [
            EndReason::SlowReader,
            EndReason::Cancelled,
            EndReason::NotFinite,
            EndReason::QueueWait,
        ]
        .map(end_name);
        if !broke_off.contains(&self.record.outcome.as_str()) {
            self.record.outcome = problem.code().to_owned();
        }
        self.record.error = redact(&problem.to_string()).into_owned();
        self.record.client_gone = false;
    }

    /// Hands requests in, all or none, and returns their events, which end early when the caller has gone.
    ///
    /// # Errors
    /// When one is refused.
    pub async fn submit(
        &mut self,
        endpoint: &Lease,
        requests: Vec<GenerationRequest>,
        departure: impl Future<Output = ()> + 'static,
    ) -> Result<Events, Problem> {
        self.record.prompt_tokens = requests.iter().map(|request| request.prompt.len()).sum();
        let completions = requests.iter().map(GenerationRequest::unfinished).sum();
        let sizes: Vec<(usize, usize)> = requests
            .iter()
            .map(|r| (r.prompt.len(), r.most_tokens.max(1)))
            .collect();
        self.record.release = endpoint.release;
        self.record.device = endpoint.device().name().into();
        self.record.simulated = endpoint.device().is_simulated();
        let mut departure = Box::pin(departure);
        // The engine counts from the moment at which its endpoint took calls.
        let arrived = self.arrived + self.start_wait;
        let begun = tokio::select! {
            begun = FailoverStream::begin(endpoint.clone(), requests, self.key.clone(), arrived, self.moves.clone()) => begun,
            () = &mut departure => return Err(Problem::half_closed()),
        };
        let stream = begun.map_err(|refused| match refused {
            Refused::QueueWait => {
                self.record.outcome = end_name(EndReason::QueueWait).into();
                Problem::queue_wait()
            }
            Refused::Problem(problem) => problem,
            Refused::Engine(refusal) => Problem::refusal(&refusal, &sizes),
        })?;
        self.runs_on(stream.measured());
        self.state.records.store.begin(self.record.clone());
        let events = Events::new(stream, completions, departure);
        self.gaps.unfinished = events.unfinished();
        Ok(events)
    }

    /// Notes which replica works on it, where one does.
    pub fn runs_on(&mut self, measured: Option<&Arc<MeasuredReplica>>) {
        let Some(measured) = measured else { return };
        if self
            .measured
            .as_ref()
            .is_some_and(|before| Arc::ptr_eq(before, measured))
        {
            return;
        }
        self.record.replica = measured.replica.number;
        self.record.incarnation = measured.replica.incarnation;
        self.measured = Some(measured.clone());
    }

    /// Notes an event at the moment when the connection got it.
    pub fn note(&mut self, event: &Event, now: Instant) {
        match event {
            Event::Admitted { .. } | Event::Prompt { .. } => {}
            Event::Piece(piece) => self.note_piece(piece, now),
            Event::Ended {
                choice,
                text,
                reason,
                metrics,
            } => {
                self.keep(*choice, text);
                self.note_end(*reason, metrics);
            }
            Event::Failed(reason) => self.note_failure(&Problem::ended(reason.clone())),
        }
    }

    fn note_piece(&mut self, piece: &Piece, now: Instant) {
        if piece.ids.is_empty() {
            return;
        }
        if self.record.output_tokens == 0 {
            self.record.ttft = now.duration_since(self.arrived).as_secs_f64();
            self.counters().first_token(&self.record.operation, self.record.ttft);
            self.hear(Noted::FirstToken(self.record.ttft));
        }
        self.record.output_tokens += piece.ids.len();
        let gap = self.gaps.token(piece.choice, now);
        // Tokens that come together have no time between them.
        let gaps = gap.into_iter().chain(std::iter::repeat_n(0.0, piece.ids.len() - 1));
        for gap in gaps {
            self.gaps.add(piece.choice, gap);
        }
        self.keep(piece.choice, &piece.text);
    }

    /// Counts the gaps that were noted since this was done last: those of events that were handed over together at a moment.
    pub fn count_gaps(&mut self, now: Instant) {
        let fresh = &self.gaps.all[self.gaps.counters..];
        if fresh.is_empty() {
            return;
        }
        self.counters().gaps(fresh);
        if let Some(measured) = &self.measured {
            measured.recent.gaps(fresh, now);
        }
        self.gaps.counters = self.gaps.all.len();
    }

    fn note_end(&mut self, reason: EndReason, metrics: &RequestMetrics) {
        self.record.outcome = end_name(reason).into();
        self.record.reused_tokens += metrics.reused_tokens;
        self.record.preemptions += metrics.preemptions as usize;
        self.record.queued = self.record.queued.max(metrics.queued);
        self.record.prefill = self.record.prefill.max(metrics.prefill);
        self.gaps.unfinished = self.gaps.unfinished.saturating_sub(1);
        // The caller has gone only when a completion never came to its end.
        self.record.client_gone = self.gaps.unfinished > 0;
    }

    /// Keeps what is new of a completion's text, when texts are kept.
    fn keep(&mut self, choice: u32, text: &str) {
        if let Some(said) = &mut self.said {
            let choice = choice as usize;
            said.resize(said.len().max(choice + 1), String::new());
            if said[choice].len() + text.len() <= MOST_KEPT {
                said[choice].push_str(text);
            }
        }
    }

    /// Returns its counters: those of its endpoint, or the ones for calls without an endpoint, as names that callers make up are no labels.
    fn counters(&self) -> &ReleaseMetrics {
        match &self.endpoint {
            Some(endpoint) => &endpoint.counters,
            None => &self.state.metrics.nobody,
        }
    }

    /// Notes something of the replica that answers, or of the first where the call was refused before it had one.
    fn hear(&self, what: Noted) {
        match (&self.measured, &self.endpoint) {
            (Some(measured), _) => measured.recent.note(what),
            (None, Some(endpoint)) => {
                if let Some(measured) = endpoint.replicas.first_replica() {
                    measured.recent.note(what);
                }
            }
            (None, None) => {}
        }
    }

    fn note_gaps(&mut self) {
        let mut all = std::mem::take(&mut self.gaps.all);
        let mut at = |share: f64| {
            let index = ((all.len() as f64 * share).ceil() as usize).saturating_sub(1);
            if index >= all.len() {
                return 0.0;
            }
            *all.select_nth_unstable_by(index, f64::total_cmp).1
        };
        self.record.itl_p50 = at(0.5);
        self.record.itl_p90 = at(0.9);
        self.record.itl_p99 = at(0.99);
        self.record.itl_max = at(1.0);
        self.record.itl_mean = all.iter().sum::<f64>() / all.len().max(1) as f64;
        self.record.gaps = std::mem::take(&mut self.gaps.first_choice);
    }
}

impl Drop for Call {
    fn drop(&mut self) {
        self.count_gaps(Instant::now());
        self.record.total = self.arrived.elapsed().as_secs_f64();
        self.note_gaps();
        if self.record.client_gone {
            self.record.outcome = "client-gone".into();
        }
        if let (Some(text), Some(said)) = (&mut self.record.text, self.said.take()) {
            text.answer = redact(&said.join("\n\n")).into_owned();
        }
        let moves = std::mem::take(&mut *self.moves.lock().unwrap_or_else(PoisonError::into_inner));
        if !moves.is_empty() {
            self.record.moves = serde_json::to_string(&moves).unwrap_or_default();
        }
        if let Some(endpoint) = &self.endpoint {
            endpoint.touch();
        }
        let call = std::mem::take(&mut self.record);
        let failed = call.status >= 400;
        self.counters().ended(&EndedCall {
            operation: &call.operation,
            error: if failed { &call.outcome } else { "" },
            total: call.total,
            itl_mean: call.itl_mean,
            queued: call.queued,
            prompt_tokens: call.prompt_tokens,
            reused_tokens: call.reused_tokens,
            output_tokens: call.output_tokens,
            client_gone: call.client_gone,
        });
        let noted = if failed { Noted::Refused } else { Noted::Answered };
        self.hear(noted);
        tracing::info!(
            request = call.id,
            caller = call.caller,
            operation = call.operation,
            endpoint = call.endpoint,
            release = call.release,
            replica = call.replica,
            status = call.status,
            outcome = call.outcome,
            prompt_tokens = call.prompt_tokens,
            output_tokens = call.output_tokens,
            queued = call.queued,
            ttft = call.ttft,
            total = call.total,
            "call"
        );
        self.state
            .live
            .call(|| recorded(call.clone(), milliseconds_since_1970()));
        self.state.records.store.record(call);
    }
}

/// The gaps between the tokens of a call.
#[derive(Default)]
struct Gaps {
    /// When the last token of each completion came.
    last: Vec<Option<Instant>>,
    /// All of them, in seconds.
    all: Vec<f64>,
    /// How many of those have been counted for all to see.
    counters: usize,
    /// Those of the first completion, in microseconds.
    first_choice: Vec<u32>,
    /// Completions that have not ended.
    unfinished: u32,
}

impl Gaps {
    /// Notes a token; returns the gap before it, where another one came before.
    fn token(&mut self, choice: u32, now: Instant) -> Option<f64> {
        let index = choice as usize;
        self.last.resize(self.last.len().max(index + 1), None);
        let before = self.last[index].replace(now);
        let gap = |before| {
            if before == now {
                0.0
            } else {
                now.duration_since(before).as_secs_f64()
            }
        };
        before.map(gap)
    }

    fn add(&mut self, choice: u32, gap: f64) {
        self.all.push(gap);
        if choice == 0 {
            self.first_choice.push((gap * 1e6) as u32);
        }
    }
}

/// Returns why a completion ended, as records and `measured` say it.
pub(super) fn end_name(reason: EndReason) -> &'static str {
    match reason {
        EndReason::EndToken => "end-token",
        EndReason::StopString => "stop-string",
        EndReason::Length => "length",
        EndReason::Cancelled => "cancelled",
        EndReason::Deadline => "deadline",
        EndReason::QueueWait => "queue_wait",
        EndReason::SlowReader => "slow-reader",
        EndReason::NotFinite => "not_finite",
    }
}
