//! One call from its arrival to its record.

use super::asked::Asked;
use super::events::Events;
use crate::budget::Share;
use crate::guard::Permit;
use crate::manage::recorded;
use crate::metrics::EndedCall;
use crate::problem::Problem;
use crate::recent::Noted;
use crate::redact::redact;
use crate::state::ServiceState;
use actix_web::{HttpMessage, HttpRequest, web};
use std::sync::atomic::Ordering;
use std::sync::{Arc, OnceLock};
use std::time::Instant;
use vastrelay_engine::request::Piece;
use vastrelay_engine::{EndReason, Event, Figures, GenerationRequest};
use vastrelay_serving::Replica;
use vastrelay_store::{CallRecord, CallText, milliseconds_since_1970};

pub(super) use crate::guard::Caller;

/// The name of a request, from its header or made here.
#[derive(Clone)]
pub struct RequestId(pub String);

/// When a request began to arrive at this machine.
#[derive(Clone, Copy)]
pub struct Arrival(pub Instant);

/// A call that is being answered. It is recorded when it is dropped, whatever became of it.
pub(super) struct Call {
    state: web::Data<ServiceState>,
    record: CallRecord,
    arrived: Instant,
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
        self.state.active_calls.fetch_sub(1, Ordering::AcqRel);
    }
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
    pub fn begin(state: &web::Data<ServiceState>, http: &HttpRequest, endpoint: &str) -> Result<Call, Problem> {
        let extensions = http.extensions();
        let Arrival(arrived) = *extensions.get().expect("every request has its arrival");
        let RequestId(id) = extensions.get().expect("every request has its name");
        let caller: &Caller = extensions.get().expect("every request has passed the guard");
        let key = caller.key.as_ref();
        let record = CallRecord {
            id: id.clone(),
            at_ms: milliseconds_since_1970(),
            endpoint: endpoint.into(),
            caller: key.map(|key| key.name.clone()).unwrap_or_default(),
            parameters: "{}".into(),
            status: 200,
            outcome: "client-gone".into(),
            client_gone: true,
            ..CallRecord::default()
        };
        state.active_calls.fetch_add(1, Ordering::AcqRel);
        let permit = match key {
            _ if state.is_draining() => Err(Problem::draining()),
            Some(key) => state.limits.enter(key, Instant::now()).map(Some),
            None => Ok(None),
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
            arrived,
            gaps: Gaps::default(),
            said: None,
            running: Running { held: Arc::new(held) },
        };
        match refused {
            Some(problem) => Err(call.refuse(problem)),
            None => Ok(call),
        }
    }

    /// Notes what was asked for.
    pub fn asks(&mut self, asked: Asked) {
        self.record.model = asked.model;
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
        let mut share = self.state.answers.share();
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
    pub fn cache_salt(&self, http: &HttpRequest) -> String {
        let extensions = http.extensions();
        let key = extensions.get::<Caller>().and_then(|caller| caller.key.as_ref());
        let key = key.filter(|_| !self.state.options.shares_cache);
        key.map(|key| key.id.clone()).unwrap_or_default()
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
        self.state.metrics.refused(&self.known_model(), problem.code());
        problem
    }

    /// Notes that the call failed.
    pub fn note_failure(&mut self, problem: &Problem) {
        use actix_web::ResponseError;
        self.record.status = problem.status_code().as_u16();
        // A completion that broke off has said how already.
        let broke_off = [EndReason::SlowReader, EndReason::Cancelled, EndReason::NotFinite].map(end_name);
        if !broke_off.contains(&self.record.outcome.as_str()) {
            self.record.outcome = problem.code().to_owned();
        }
        self.record.client_gone = false;
    }

    /// Hands requests in, all or none, and returns their events, which end early when the caller has gone.
    ///
    /// # Errors
    /// When one is refused.
    pub async fn submit(
        &mut self,
        replica: &Arc<Replica>,
        requests: Vec<GenerationRequest>,
        departure: impl Future<Output = ()> + 'static,
    ) -> Result<Events, Problem> {
        self.record.prompt_tokens = requests.iter().map(|request| request.prompt.len()).sum();
        let completions = requests.iter().map(GenerationRequest::unfinished).sum();
        let sizes: Vec<(usize, usize)> = requests
            .iter()
            .map(|r| (r.prompt.len(), r.most_tokens.max(1)))
            .collect();
        let answered = replica.generate.submit(requests).await;
        let stream = answered.map_err(|refusal| Problem::refusal(&refusal, &sizes))?;
        let events = Events::new(stream, completions, departure);
        self.gaps.unfinished = events.unfinished();
        Ok(events)
    }

    /// Notes what an event tells.
    pub fn note(&mut self, event: &Event) {
        match event {
            Event::Admitted { .. } | Event::Prompt { .. } => {}
            Event::Piece(piece) => self.note_piece(piece),
            Event::Ended {
                choice,
                text,
                reason,
                figures,
            } => {
                self.keep(*choice, text);
                self.note_end(*reason, figures);
            }
            Event::Failed(reason) => self.note_failure(&Problem::internal(reason.clone())),
        }
    }

    fn note_piece(&mut self, piece: &Piece) {
        if piece.ids.is_empty() {
            return;
        }
        let now = Instant::now();
        let (state, model) = (self.state.clone(), &self.record.model);
        if self.record.output_tokens == 0 {
            self.record.ttft = now.duration_since(self.arrived).as_secs_f64();
            state
                .metrics
                .first_token(&self.record.endpoint, model, self.record.ttft);
            state.recent.note(model, Noted::FirstToken(self.record.ttft));
        }
        self.record.output_tokens += piece.ids.len();
        for gap in self.gaps.tokens(piece.choice, piece.ids.len(), now) {
            state.metrics.gap(model, gap);
            state.recent.note(model, Noted::Gap(gap));
        }
        self.keep(piece.choice, &piece.text);
    }

    fn note_end(&mut self, reason: EndReason, figures: &Figures) {
        self.record.outcome = end_name(reason).into();
        self.record.reused_tokens += figures.reused_tokens;
        self.record.preemptions += figures.preemptions as usize;
        self.record.queued = self.record.queued.max(figures.queued);
        self.record.prefill = self.record.prefill.max(figures.prefill);
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

    /// Returns the model when it is one of ours: names that callers make up are no labels.
    fn known_model(&self) -> String {
        let known = self.state.model(&self.record.model).is_ok();
        if known {
            self.record.model.clone()
        } else {
            String::new()
        }
    }

    fn note_gaps(&mut self) {
        let mut all = std::mem::take(&mut self.gaps.all);
        all.sort_by(f64::total_cmp);
        let at = |share: f64| {
            all.get(((all.len() as f64 * share).ceil() as usize).saturating_sub(1))
                .copied()
        };
        self.record.itl_mean = all.iter().sum::<f64>() / all.len().max(1) as f64;
        self.record.itl_p50 = at(0.5).unwrap_or(0.0);
        self.record.itl_p90 = at(0.9).unwrap_or(0.0);
        self.record.itl_p99 = at(0.99).unwrap_or(0.0);
        self.record.itl_max = all.last().copied().unwrap_or(0.0);
        self.record.gaps = std::mem::take(&mut self.gaps.first_choice);
    }
}

impl Drop for Call {
    fn drop(&mut self) {
        self.record.total = self.arrived.elapsed().as_secs_f64();
        self.note_gaps();
        if self.record.client_gone {
            self.record.outcome = "client-gone".into();
        }
        if let (Some(text), Some(said)) = (&mut self.record.text, self.said.take()) {
            text.answer = redact(&said.join("\n\n")).into_owned();
        }
        let model = self.known_model();
        let call = std::mem::take(&mut self.record);
        let failed = call.status >= 400;
        self.state.metrics.ended(&EndedCall {
            endpoint: &call.endpoint,
            model: &model,
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
        self.state.recent.note(&model, noted);
        tracing::info!(
            request = call.id,
            caller = call.caller,
            endpoint = call.endpoint,
            model = call.model,
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
        self.state.store.record(call);
    }
}

/// The gaps between the tokens of a call.
#[derive(Default)]
struct Gaps {
    /// When the last token of each completion came.
    last: Vec<Option<Instant>>,
    /// All of them, in seconds.
    all: Vec<f64>,
    /// Those of the first completion, in microseconds.
    first_choice: Vec<u32>,
    /// Completions that have not ended.
    unfinished: u32,
}

impl Gaps {
    /// Notes tokens that came together; returns the gaps before them.
    fn tokens(&mut self, choice: u32, count: usize, now: Instant) -> Vec<f64> {
        let index = choice as usize;
        self.last.resize(self.last.len().max(index + 1), None);
        let before = self.last[index].replace(now);
        let first = before.map(|before| now.duration_since(before).as_secs_f64());
        let gaps: Vec<f64> = first.into_iter().chain(std::iter::repeat_n(0.0, count - 1)).collect();
        self.all.extend(&gaps);
        if choice == 0 {
            self.first_choice.extend(gaps.iter().map(|gap| (gap * 1e6) as u32));
        }
        gaps
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
        EndReason::SlowReader => "slow-reader",
        EndReason::NotFinite => "not-finite",
    }
}
