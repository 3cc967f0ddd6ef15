//! `GET /manage/status`.

use crate::http::records::Records;
use crate::lifecycle::run::ServiceRun;
use crate::manage::capacity::capacity_status;
use actix_web::{HttpResponse, web};
use std::sync::Arc;
use vastrelay_control::endpoints::endpoint::Endpoint;
use vastrelay_control::endpoints::registry::{Endpoints, Resting};
use vastrelay_control::replicas::measured::MeasuredReplica;
use vastrelay_control::replicas::members::totals_of;
use vastrelay_control::replicas::recent;
use vastrelay_control::replicas::state::ReplicaState;
use vastrelay_engine::EngineStatus;
use vastrelay_engine::scheduler::Occupancy;
use vastrelay_fleet::state::{State, of_endpoints};
use vastrelay_planner::{MemoryPlan, PoolPlan};
use vastrelay_serving::Precisions;
use vastrelay_serving::devices::device::ReplicaCores;
use vastrelay_wire::manage::{
    EndpointStatus, MemoryStatus, OccupancyStatus, PoolStatus, PrecisionStatus, ReplicaStatus, RestingEndpoint,
    ServiceStatus, Totals,
};

/// `GET /manage/status`: how the service and its endpoints stand.
#[utoipa::path(get, path = "/manage/status", tag = "manage", responses((status = 200, body = ServiceStatus)))]
pub async fn status(
    endpoints: web::Data<Endpoints>,
    records: web::Data<Records>,
    service_run: web::Data<ServiceRun>,
) -> HttpResponse {
    HttpResponse::Ok().json(service_status(&endpoints, &records, &service_run))
}

/// Returns how everything stands.
pub(crate) fn service_status(endpoints: &Endpoints, records: &Records, service_run: &ServiceRun) -> ServiceStatus {
    let all = endpoints.all();
    ServiceStatus {
        version: env!("CARGO_PKG_VERSION").into(),
        uptime: service_run.uptime(),
        state: condition(endpoints, &all, service_run).name().into(),
        calls_recorded: records.store.count_calls(),
        endpoints: all.iter().map(|endpoint| endpoint_status(endpoint)).collect(),
        resting: endpoints.resting().iter().map(resting_endpoint).collect(),
        loops: service_run.loops.status(),
    }
}

/// Returns how an endpoint stands that is not served.
pub(crate) fn resting_endpoint((name, resting): (&String, &Resting)) -> RestingEndpoint {
    RestingEndpoint {
        name: name.clone(),
        state: resting.state.name().into(),
        why: resting.why.clone(),
        seconds: resting.since.elapsed().as_secs_f64(),
    }
}

/// Returns the service's state.
pub(crate) fn condition(endpoints: &Endpoints, all: &[Arc<Endpoint>], service_run: &ServiceRun) -> State {
    if service_run.is_draining() {
        return State::Draining;
    }
    let resting = endpoints.resting().into_values().map(|resting| resting.state);
    let states: Vec<State> = all
        .iter()
        .map(|endpoint| endpoint.replicas.state())
        .chain(resting)
        .collect();
    of_endpoints(&states, endpoints.expects_more())
}

/// Returns how an endpoint stands.
pub(crate) fn endpoint_status(endpoint: &Endpoint) -> EndpointStatus {
    let replicas = endpoint.replicas.all();
    let statuses: Vec<EngineStatus> = replicas
        .iter()
        .map(|measured| measured.replica.generate.status())
        .collect();
    let windows = replicas.iter().zip(&statuses).map(|(measured, status)| {
        let produced = (status.prefill_tokens, status.output_tokens);
        (&measured.recent, produced)
    });
    let window = recent::window_metrics(windows);
    let mut lives = endpoint.replicas.without_worker();
    let measured = replicas.iter().zip(statuses);
    let mut replicas: Vec<ReplicaStatus> = measured
        .map(|(measured, status)| {
            let service_run = lives.remove(&measured.replica.number);
            replica_status(endpoint, measured, status, service_run.as_ref())
        })
        .collect();
    replicas.extend(
        lives
            .iter()
            .map(|(number, service_run)| replica_to_be(endpoint, *number, service_run)),
    );
    let mut occupancy = OccupancyStatus::default();
    replicas.iter().for_each(|replica| occupancy += replica.occupancy);
    occupancy.queue_depth += endpoint.replicas.queue().depth();
    EndpointStatus {
        name: endpoint.name.clone(),
        state: endpoint.replicas.state().name().into(),
        release: endpoint.release,
        device: endpoint.device().name().into(),
        simulated: endpoint.device().is_simulated(),
        precision: precision_status(endpoint.plan.precisions),
        parameters: endpoint.model.description.parameters(),
        vocabulary: endpoint.model.description.vocabulary,
        context: endpoint.limits().context,
        occupancy,
        totals: endpoint.replicas.totals(),
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

/// Returns how a replica stands that has a worker, or had one.
fn replica_status(
    endpoint: &Endpoint,
    measured: &MeasuredReplica,
    status: EngineStatus,
    service_run: Option<&ReplicaState>,
) -> ReplicaStatus {
    let replica = &measured.replica;
    let planned = replica_of_plan(
        endpoint,
        replica.number,
        endpoint.replicas.state_of(measured),
        service_run,
    );
    let limits = endpoint.limits();
    // A replica that has ended holds nothing.
    let now = match status.failure {
        None => status.occupancy,
        Some(_) => Occupancy {
            pages_total: status.occupancy.pages_total,
            ..Occupancy::default()
        },
    };
    ReplicaStatus {
        incarnation: replica.incarnation,
        process: replica.process.filter(|_| service_run.is_none()),
        uptime: status.uptime,
        memory: memory_status(&replica.memory, replica.resident()),
        capacity: capacity_status(&replica.memory),
        occupancy: OccupancyStatus {
            queue_depth: now.queue_depth,
            queue_limit: limits.queue_depth,
            lanes_used: now.lanes_used,
            lanes: limits.width,
            pages_used: now.pages_used,
            pages_cached: now.pages_cached,
            pages: now.pages_total,
        },
        totals: totals_of(&status),
        failure: planned.failure.or(status.failure),
        ..planned
    }
}

/// Returns how a replica stands that has never had a worker.
fn replica_to_be(endpoint: &Endpoint, number: u32, service_run: &ReplicaState) -> ReplicaStatus {
    replica_of_plan(endpoint, number, service_run.state(), Some(service_run))
}

fn replica_of_plan(
    endpoint: &Endpoint,
    number: u32,
    state: State,
    service_run: Option<&ReplicaState>,
) -> ReplicaStatus {
    let (plan, limits) = (&endpoint.plan, endpoint.limits());
    let (phase, failure) = match service_run {
        Some(ReplicaState::Starting(phase)) => (Some(phase.name().to_owned()), None),
        Some(ReplicaState::Draining) => (None, None),
        Some(ReplicaState::Failed { why, .. }) => (None, Some(why.clone())),
        None => (None, None),
    };
    ReplicaStatus {
        replica: number,
        state: state.name().into(),
        phase,
        incarnation: 0,
        process: None,
        uptime: 0.0,
        instructions: plan.instructions.into(),
        cores: plan.cores.as_ref().map_or(0.0, |cores| cores.share().cores()),
        threads: plan.cores.as_ref().map_or(0, ReplicaCores::threads),
        split: plan.assignment.split,
        width: limits.width,
        step_budget: limits.step_budget,
        memory: memory_status(&plan.memory, 0),
        capacity: capacity_status(&plan.memory),
        occupancy: OccupancyStatus {
            queue_limit: limits.queue_depth,
            lanes: limits.width,
            ..OccupancyStatus::default()
        },
        totals: Totals::default(),
        failure,
    }
}

fn memory_status(memory: &MemoryPlan, resident: usize) -> MemoryStatus {
    MemoryStatus {
        weights: memory.weights,
        kv_pool: memory.kv_pool(),
        page: memory.page(),
        page_tokens: vastrelay_engine::PAGE_TOKENS,
        pools: memory.pools.iter().map(pool_status).collect(),
        workspace: memory.workspace,
        process: memory.process,
        reserved: memory.total(),
        resident,
        budget: memory.budget,
        device: memory.device,
    }
}

fn pool_status(pool: &PoolPlan) -> PoolStatus {
    PoolStatus {
        window: pool.sizes.reach.window,
        layers: pool.sizes.reach.layers,
        page: pool.sizes.page,
        pages: pool.pages,
    }
}
