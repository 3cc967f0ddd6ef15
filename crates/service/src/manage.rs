//! The management API.

use crate::problem::Problem;
use crate::state::ServiceState;
use actix_web::{HttpResponse, web};
use serde::Deserialize;
use vastrelay_serving::Replica;
use vastrelay_wire::manage::{MemoryStatus, ModelStatus, ServiceStatus};

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
