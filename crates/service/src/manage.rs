//! The management API.

use crate::problem::Problem;
use crate::state::ServiceState;
use actix_web::{HttpResponse, web};
use serde::Deserialize;
use std::time::{SystemTime, UNIX_EPOCH};
use vastrelay_serving::Replica;
use vastrelay_store::CallRecord;
use vastrelay_wire::manage::{MemoryStatus, ModelStatus, RecordedCall, ServiceStatus};

/// `GET /manage/status`.
///
/// # Errors
/// 500 when the database cannot be read.
pub async fn status(state: web::Data<ServiceState>) -> Result<HttpResponse, Problem> {
    let calls_recorded = state
        .store
        .count_calls()
        .map_err(|e| Problem::internal(e.to_string()))?;
    Ok(HttpResponse::Ok().json(ServiceStatus {
        version: env!("CARGO_PKG_VERSION").into(),
        uptime: state.uptime(),
        state: state.condition().into(),
        calls_recorded,
        models: state.models().map(|replica| model_status(replica)).collect(),
    }))
}

/// What `GET /manage/models/{name}/steps` is asked.
#[derive(Deserialize)]
pub struct StepsQuery {
    /// Only steps with a greater number.
    #[serde(default)]
    after: u64,
    /// The newest of them, at most so many.
    #[serde(default = "most_steps")]
    most: usize,
}

fn most_steps() -> usize {
    200
}

/// `GET /manage/models/{name}/steps`: the record of each of the last steps.
///
/// # Errors
/// 404 for an unknown model.
pub async fn steps(
    state: web::Data<ServiceState>,
    name: web::Path<String>,
    query: web::Query<StepsQuery>,
) -> Result<HttpResponse, Problem> {
    let replica = state.model(&name)?;
    Ok(HttpResponse::Ok().json(replica.generate.steps_after(query.after, query.most)))
}

/// What `GET /manage/requests` is asked.
#[derive(Deserialize)]
pub struct RequestsQuery {
    /// The newest, at most so many.
    #[serde(default = "most_requests")]
    most: usize,
}

fn most_requests() -> usize {
    20
}

/// `GET /manage/requests`: the last calls, newest first.
///
/// # Errors
/// 500 when the database cannot be read.
pub async fn requests(
    state: web::Data<ServiceState>,
    query: web::Query<RequestsQuery>,
) -> Result<HttpResponse, Problem> {
    let now = SystemTime::now()
        .duration_since(UNIX_EPOCH)
        .map_or(0, |time| time.as_millis() as i64);
    state.store.flush();
    let calls = state
        .store
        .latest_calls(query.most.min(10_000))
        .map_err(|e| Problem::internal(e.to_string()))?;
    Ok(HttpResponse::Ok().json(calls.into_iter().map(|call| recorded(call, now)).collect::<Vec<_>>()))
}

fn recorded(call: CallRecord, now: i64) -> RecordedCall {
    RecordedCall {
        seconds_ago: (now - call.at_ms) as f64 / 1000.0,
        id: call.id,
        at_ms: call.at_ms,
        endpoint: call.endpoint,
        model: call.model,
        status: call.status,
        outcome: call.outcome,
        streamed: call.streamed,
        prompt_tokens: call.prompt_tokens,
        reused_tokens: call.reused_tokens,
        output_tokens: call.output_tokens,
        queued: call.queued,
        prefill: call.prefill,
        ttft: call.ttft,
        itl_mean: call.itl_mean,
        itl_max: call.itl_max,
        total: call.total,
    }
}

fn model_status(replica: &Replica) -> ModelStatus {
    let (status, limits, memory) = (replica.generate.status(), replica.generate.limits(), &replica.memory);
    ModelStatus {
        name: replica.name.clone(),
        device: "cpu".into(),
        instructions: replica.instructions.into(),
        cores: replica.cores,
        parameters: replica.description.parameters(),
        width: limits.width,
        step_budget: limits.step_budget,
        context: limits.context,
        memory: MemoryStatus {
            weights: memory.weights,
            kv_pool: memory.kv_pool(),
            page: memory.page,
            page_tokens: vastrelay_engine::PAGE_TOKENS,
            workspace: memory.workspace,
            budget: memory.budget,
            device: memory.device,
        },
        full_context_sequences: memory.full_context_sequences(),
        queue_depth: status.occupancy.queue_depth,
        queue_limit: limits.queue_depth,
        lanes_used: status.occupancy.lanes_used,
        pages_used: status.occupancy.pages_used,
        pages_cached: status.occupancy.pages_cached,
        pages_total: status.occupancy.pages_total,
        steps: status.steps,
        prefill_tokens: status.prefill_tokens,
        output_tokens: status.output_tokens,
        ended: status.ended,
        preemptions: status.preemptions,
        failure: status.failure,
    }
}
