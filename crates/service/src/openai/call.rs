//! One call from its arrival to its record.

use crate::problem::Problem;
use crate::state::ServiceState;
use actix_web::web;
use futures_util::stream::{self, BoxStream, LocalBoxStream, StreamExt};
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::{Instant, SystemTime, UNIX_EPOCH};
use vastrelay_engine::request::Piece;
use vastrelay_engine::{EndReason, Event, Figures, GenerationRequest, RequestStream};
use vastrelay_serving::Replica;
use vastrelay_store::CallRecord;

/// The name of a request, from its header or made here.
#[derive(Clone)]
pub struct RequestId(pub String);

/// A call that is being answered. It is recorded when it is dropped, whatever became of it.
pub(super) struct Call {
    state: web::Data<ServiceState>,
    record: CallRecord,
    arrived: Instant,
}

impl Call {
    /// Begins a call.
    ///
    /// # Errors
    /// 503 when the service drains.
    pub fn begin(state: &web::Data<ServiceState>, id: &RequestId, endpoint: &str) -> Result<Call, Problem> {
        let at = SystemTime::now()
            .duration_since(UNIX_EPOCH)
            .map_or(0, |time| time.as_millis() as i64);
        let record = CallRecord {
            id: id.0.clone(),
            at_ms: at,
            endpoint: endpoint.into(),
            status: 200,
            outcome: "client-gone".into(),
            ..CallRecord::default()
        };
        state.active_calls.fetch_add(1, Ordering::AcqRel);
        let call = Call {
            state: state.clone(),
            record,
            arrived: Instant::now(),
        };
        if state.condition() == "draining" {
            return Err(call.refuse(Problem::draining()));
        }
        Ok(call)
    }

    /// Notes what was asked for.
    pub fn asks(&mut self, model: &str, streamed: bool) {
        self.record.model = model.into();
        self.record.streamed = streamed;
    }

    /// Notes that the call is refused, and hands the reason on.
    pub fn refuse(mut self, problem: Problem) -> Problem {
        self.note_failure(&problem);
        problem
    }

    /// Notes that the call failed.
    pub fn note_failure(&mut self, problem: &Problem) {
        use actix_web::ResponseError;
        self.record.status = problem.status_code().as_u16();
        self.record.outcome = problem.code().to_owned();
    }

    /// Hands requests in, all or none, and returns their events with each completion's number among all of them.
    /// The events end early when the caller has gone.
    ///
    /// # Errors
    /// When one is refused.
    pub async fn submit(
        &mut self,
        replica: &Arc<Replica>,
        requests: Vec<GenerationRequest>,
        departure: impl Future<Output = ()> + 'static,
    ) -> Result<LocalBoxStream<'static, Event>, Problem> {
        let mut streams = Vec::new();
        let mut first_choice = 0;
        for request in requests {
            let (tokens, choices) = (request.prompt.len(), request.choices);
            self.record.prompt_tokens += tokens;
            let answered = replica.generate.submit(request).await;
            let stream = answered.map_err(|refusal| Problem::refusal(&refusal, tokens))?;
            streams.push(events(stream, first_choice));
            first_choice += choices;
        }
        Ok(stream::select_all(streams).take_until(departure).boxed_local())
    }

    /// Notes what an event tells.
    pub fn note(&mut self, event: &Event) {
        match event {
            Event::Admitted { .. } => {}
            Event::Piece(Piece { ids, .. }) => {
                if self.record.output_tokens == 0 {
                    self.record.ttft = self.arrived.elapsed().as_secs_f64();
                }
                self.record.output_tokens += ids.len();
            }
            Event::Ended { reason, figures, .. } => self.note_end(*reason, figures),
            Event::Failed(_) => {
                self.record.status = 500;
                self.record.outcome = "engine-failed".into();
            }
        }
    }

    fn note_end(&mut self, reason: EndReason, figures: &Figures) {
        self.record.outcome = end_name(reason).into();
        self.record.reused_tokens += figures.reused_tokens;
        self.record.queued = self.record.queued.max(figures.queued);
        self.record.prefill = self.record.prefill.max(figures.prefill);
        self.record.itl_mean = self.record.itl_mean.max(figures.itl_mean);
        self.record.itl_max = self.record.itl_max.max(figures.itl_max);
    }
}

impl Drop for Call {
    fn drop(&mut self) {
        self.record.total = self.arrived.elapsed().as_secs_f64();
        let call = std::mem::take(&mut self.record);
        tracing::info!(
            request = call.id,
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
        self.state.store.record(call);
        self.state.active_calls.fetch_sub(1, Ordering::AcqRel);
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
    }
}

/// Returns a request's events with its completions numbered from `first` on.
fn events(mut stream: RequestStream, first: u32) -> BoxStream<'static, Event> {
    let events = stream::poll_fn(move |context| stream.poll_next(context));
    let numbered = events.map(move |mut event| {
        match &mut event {
            Event::Admitted { choice } | Event::Ended { choice, .. } => *choice += first,
            Event::Piece(piece) => piece.choice += first,
            Event::Failed(_) => {}
        }
        event
    });
    numbered.boxed()
}
