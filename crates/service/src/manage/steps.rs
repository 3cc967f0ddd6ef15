//! `GET /manage/endpoints/{name}/steps`.

use crate::http::problem::Problem;
use actix_web::{HttpResponse, web};
use serde::Deserialize;
use utoipa::IntoParams;
use vastrelay_control::endpoints::endpoint::Endpoint;
use vastrelay_control::endpoints::registry::Endpoints;
use vastrelay_control::replicas::measured::MeasuredReplica;
use vastrelay_engine::record::{AdmittedRecord, LaneRecord, StepRecord};
use vastrelay_engine::scheduler::{PrefillOrder, RowKind};
use vastrelay_wire::error::ErrorEnvelope;
use vastrelay_wire::manage::{ReplicaSteps, Step, StepAdmission, StepLane};

/// Most steps that are returned.
const MOST_STEPS: usize = 4_096;

/// What `GET /manage/endpoints/{name}/steps` is asked.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct StepsQuery {
    /// Of which replica; the first when absent.
    replica: Option<u32>,
    /// Only steps with a greater number.
    #[serde(default)]
    after: u64,
    /// The newest of them, at most this many.
    #[serde(default = "most_steps")]
    most: usize,
}

fn most_steps() -> usize {
    200
}

/// `GET /manage/endpoints/{name}/steps`: the record of each of the last steps of a replica.
///
/// # Errors
/// 404 for an unknown endpoint or replica.
#[utoipa::path(get, path = "/manage/endpoints/{name}/steps", tag = "manage", params(
    ("name" = String, Path, description = "The endpoint"), StepsQuery), responses(
    (status = 200, body = ReplicaSteps), (status = "4XX", body = ErrorEnvelope)))]
pub async fn steps(
    endpoints: web::Data<Endpoints>,
    name: web::Path<String>,
    query: web::Query<StepsQuery>,
) -> Result<HttpResponse, Problem> {
    let endpoint = endpoints.get(&name)?;
    let mut replicas = endpoint.replicas.all().into_iter();
    let measured = match query.replica {
        Some(number) => replicas
            .find(|measured| measured.replica.number == number)
            .ok_or_else(|| Problem::not_kept(format!("`{name}` has no replica {number}")))?,
        None => replicas
            .next()
            .ok_or_else(|| Problem::not_kept(format!("`{name}` has no replica yet")))?,
    };
    let records = measured
        .replica
        .generate
        .steps_after(query.after, query.most.min(MOST_STEPS));
    Ok(HttpResponse::Ok().json(replica_steps(&endpoint, &measured, &records)))
}

/// Returns steps of a replica as they go over the wire.
pub(crate) fn replica_steps(endpoint: &Endpoint, measured: &MeasuredReplica, records: &[StepRecord]) -> ReplicaSteps {
    ReplicaSteps {
        endpoint: endpoint.name.clone(),
        release: endpoint.release,
        replica: measured.replica.number,
        incarnation: measured.replica.incarnation,
        steps: records.iter().map(step).collect(),
    }
}

/// Returns a step's record as it goes over the wire.
fn step(record: &StepRecord) -> Step {
    let lane = |lane: &LaneRecord| StepLane {
        lane: lane.lane,
        sequence: lane.sequence,
        kind: match lane.kind {
            RowKind::Prefill => "prefill".into(),
            RowKind::Decode => "decode".into(),
        },
        tokens: lane.tokens,
        reused: lane.reused,
        order: lane.order.map(|order| match order {
            PrefillOrder::Oldest => "oldest".into(),
            PrefillOrder::Shortest => "shortest".into(),
            PrefillOrder::Aged => "aged".into(),
        }),
    };
    let admission = |admitted: &AdmittedRecord| {
        let (request, given_id) = match admitted.request.split_once(' ') {
            Some((request, given)) => (request, Some(given.to_owned())),
            None => (admitted.request.as_str(), None),
        };
        StepAdmission {
            sequence: admitted.sequence,
            request: request.to_owned(),
            given_id,
        }
    };
    Step {
        number: record.number,
        at: record.at,
        duration: record.duration,
        lanes: record.lanes.iter().map(lane).collect(),
        admitted: record.admitted.iter().map(admission).collect(),
        preempted: record.preempted.iter().map(|(sequence, _)| *sequence).collect(),
        waiting: record.waiting,
        pages_used: record.pages_used,
    }
}
