//! `GET /manage/status`.

use crate::endpoint::{Endpoint, Placed, totals_of};
use crate::endpoints::Endpoints;
use crate::life::Life;
use crate::recent;
use crate::records::Records;
use actix_web::{HttpResponse, web};
use std::sync::Arc;
use vastrelay_engine::EngineStatus;
use vastrelay_planner::PoolPlan;
use vastrelay_serving::{Precisions, Replica};
use vastrelay_wire::manage::{
    EndpointStatus, MemoryStatus, OccupancyStatus, PoolStatus, PrecisionStatus, ReplicaStatus, ServiceStatus,
};

/// `GET /manage/status`: how the service and its endpoints stand.
#[utoipa::path(get, path = "/manage/status", tag = "manage", responses((status = 200, body = ServiceStatus)))]
pub async fn status(
    endpoints: web::Data<Endpoints>,
    records: web::Data<Records>,
    life: web::Data<Life>,
) -> HttpResponse {
    HttpResponse::Ok().json(service_status(&endpoints, &records, &life))
}

/// Returns how everything stands.
pub(crate) fn service_status(endpoints: &Endpoints, records: &Records, life: &Life) -> ServiceStatus {
    let all = endpoints.all();
    ServiceStatus {
        version: env!("CARGO_PKG_VERSION").into(),
        uptime: life.uptime(),
        state: condition(&all, life).into(),
        calls_recorded: records.store.count_calls(),
        endpoints: all.iter().map(|endpoint| endpoint_status(endpoint)).collect(),
    }
}

/// Returns the service's state: `draining`; `failed` when every endpoint has; `degraded` when not all are ready; else `ready`.
pub(crate) fn condition(endpoints: &[Arc<Endpoint>], life: &Life) -> &'static str {
    if life.is_draining() {
        return "draining";
    }
    let count = |state: &str| endpoints.iter().filter(|endpoint| endpoint.state() == state).count();
    match (count("ready"), count("failed")) {
        (ready, _) if ready == endpoints.len() => "ready",
        (_, failed) if failed == endpoints.len() => "failed",
        _ => "degraded",
    }
}

/// Returns how an endpoint stands.
pub(crate) fn endpoint_status(endpoint: &Endpoint) -> EndpointStatus {
    let replicas = endpoint.replicas();
    let statuses: Vec<EngineStatus> = replicas.iter().map(|placed| placed.replica.generate.status()).collect();
    let windows = replicas.iter().zip(&statuses).map(|(placed, status)| {
        let produced = (status.prefill_tokens, status.output_tokens);
        (&placed.recent, produced)
    });
    let window = recent::figures(windows);
    let replicas: Vec<ReplicaStatus> = replicas
        .iter()
        .zip(statuses)
        .map(|(placed, status)| replica_status(placed, status))
        .collect();
    let mut occupancy = OccupancyStatus::default();
    replicas.iter().for_each(|replica| occupancy += replica.occupancy);
    EndpointStatus {
        name: endpoint.name.clone(),
        state: endpoint.state().into(),
        release: endpoint.release,
        device: endpoint.device.name().into(),
        simulated: endpoint.device.is_simulated(),
        precision: precision_status(endpoint.precisions),
        parameters: endpoint.model.description.parameters(),
        vocabulary: endpoint.model.description.vocabulary,
        context: endpoint.limits().context,
        occupancy,
        totals: endpoint.totals(),
        window,
        replicas,
    }
}

fn precision_status(precisions: Precisions) -> PrecisionStatus {
    PrecisionStatus {
        weights: precisions.weights.word().into(),
        group: precisions.weights.group(),
        kv: precisions.kv.name().into(),
    }
}

fn replica_status(placed: &Placed, status: EngineStatus) -> ReplicaStatus {
    let replica = &placed.replica;
    let limits = replica.generate.limits();
    ReplicaStatus {
        replica: replica.number,
        incarnation: replica.incarnation,
        uptime: status.uptime,
        instructions: replica.instructions.into(),
        cores: replica.cores,
        split: replica.split,
        width: limits.width,
        step_budget: limits.step_budget,
        memory: memory_status(replica),
        full_context_sequences: replica.memory.full_context_sequences(),
        occupancy: OccupancyStatus {
            queue_depth: status.occupancy.queue_depth,
            queue_limit: limits.queue_depth,
            lanes_used: status.occupancy.lanes_used,
            lanes: limits.width,
            pages_used: status.occupancy.pages_used,
            pages_cached: status.occupancy.pages_cached,
            pages: status.occupancy.pages_total,
        },
        totals: totals_of(&status),
        failure: status.failure,
    }
}

fn memory_status(replica: &Replica) -> MemoryStatus {
    let memory = &replica.memory;
    MemoryStatus {
        weights: memory.weights,
        kv_pool: memory.kv_pool(),
        page: memory.page(),
        page_tokens: vastrelay_engine::PAGE_TOKENS,
        pools: memory.pools.iter().map(pool_status).collect(),
        workspace: memory.workspace,
        process: memory.process,
        reserved: memory.total(),
        resident: replica.resident(),
        budget: memory.budget,
        device: memory.device,
    }
}

fn pool_status(pool: &PoolPlan) -> PoolStatus {
    PoolStatus {
        window: pool.sizes.sight.window,
        layers: pool.sizes.sight.layers,
        page: pool.sizes.page,
        pages: pool.pages,
    }
}
