//! The management API.

use crate::chronicle::SPANS;
use crate::guard::Body;
use crate::keys::{MakeKeyError, key_entry, make_key};
use crate::problem::Problem;
use crate::state::ServiceState;
use actix_web::{HttpResponse, web};
use serde::Deserialize;
use serde_json::Value;
use utoipa::IntoParams;
use vastrelay_engine::record::{AdmittedRecord, LaneRecord, StepRecord};
use vastrelay_engine::scheduler::RowKind;
use vastrelay_serving::Replica;
use vastrelay_serving::memory::PoolPlan;
use vastrelay_store::{CallFilter, CallRecord, RunRecord, milliseconds_since_1970};
use vastrelay_wire::error::ErrorEnvelope;
use vastrelay_wire::keys::{KeyEntry, MadeKey, NewKey};
use vastrelay_wire::manage::{
    CallDetail, CallText, History, HistoryPoint, MemoryStatus, ModelStatus, PoolStatus, RecordedCall, RunEntry,
    ServiceStatus, Step, StepAdmission, StepLane,
};
use vastrelay_wire::parse::parse_body;

/// Most entries of a listing.
const MOST_LISTED: usize = 10_000;
/// Most load tests that are listed whole.
const MOST_WHOLE_RUNS: usize = 20;
/// Most steps that are returned.
const MOST_STEPS: usize = 4_096;

/// `GET /manage/status`: how the service and its models stand.
#[utoipa::path(get, path = "/manage/status", tag = "manage", responses((status = 200, body = ServiceStatus)))]
pub async fn status(state: web::Data<ServiceState>) -> HttpResponse {
    HttpResponse::Ok().json(service_status(&state))
}

pub(crate) fn service_status(state: &ServiceState) -> ServiceStatus {
    ServiceStatus {
        version: env!("CARGO_PKG_VERSION").into(),
        uptime: state.uptime(),
        state: state.condition().into(),
        calls_recorded: state.store.count_calls(),
        models: state
            .models()
            .iter()
            .map(|replica| model_status(state, replica))
            .collect(),
    }
}

/// What `GET /manage/models/{name}/steps` is asked.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct StepsQuery {
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

/// `GET /manage/models/{name}/steps`: the record of each of the last steps.
///
/// # Errors
/// 404 for an unknown model.
#[utoipa::path(get, path = "/manage/models/{name}/steps", tag = "manage", params(
    ("name" = String, Path, description = "The model"), StepsQuery), responses(
    (status = 200, description = "Records of steps, oldest first", body = Vec<Step>), (status = "4XX", body = ErrorEnvelope)))]
pub async fn steps(
    state: web::Data<ServiceState>,
    name: web::Path<String>,
    query: web::Query<StepsQuery>,
) -> Result<HttpResponse, Problem> {
    let replica = state.model(&name)?;
    let steps = replica.generate.steps_after(query.after, query.most.min(MOST_STEPS));
    Ok(HttpResponse::Ok().json(steps.iter().map(step).collect::<Vec<_>>()))
}

/// Returns a step's record as it goes over the wire.
pub(crate) fn step(record: &StepRecord) -> Step {
    let lane = |lane: &LaneRecord| StepLane {
        lane: lane.lane,
        sequence: lane.sequence,
        kind: match lane.kind {
            RowKind::Prefill => "prefill".into(),
            RowKind::Decode => "decode".into(),
        },
        tokens: lane.tokens,
        reused: lane.reused,
    };
    let admission = |admitted: &AdmittedRecord| StepAdmission {
        sequence: admitted.sequence,
        request: admitted.request.clone(),
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

/// What `GET /manage/models/{name}/history` is asked.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct HistoryQuery {
    /// The last this many seconds.
    #[serde(default = "an_hour")]
    seconds: u32,
}

fn an_hour() -> u32 {
    3600
}

/// Most seconds that are looked back at in the finest points; more come in coarser ones.
const FINE: u32 = 2 * 3600;

/// `GET /manage/models/{name}/history`: what a model was like over the last hours.
///
/// # Errors
/// 404 for an unknown model.
#[utoipa::path(get, path = "/manage/models/{name}/history", tag = "manage", params(
    ("name" = String, Path, description = "The model"), HistoryQuery), responses(
    (status = 200, body = History), (status = "4XX", body = ErrorEnvelope)))]
pub async fn history(
    state: web::Data<ServiceState>,
    name: web::Path<String>,
    query: web::Query<HistoryQuery>,
) -> Result<HttpResponse, Problem> {
    let replica = state.model(&name)?;
    let span = if query.seconds <= FINE { SPANS[0] } else { SPANS[1] };
    let from = milliseconds_since_1970() - i64::from(query.seconds) * 1000;
    let points = state
        .database(move |store| store.history(&replica.name, span, from))
        .await?;
    let point = |point: vastrelay_store::HistoryPoint| HistoryPoint {
        at_ms: point.at_ms,
        queue_depth: point.queue_depth,
        lanes_used: point.lanes_used,
        pages_used: point.pages_used,
        prefill_rate: point.prefill_rate,
        output_rate: point.output_rate,
        answered: point.answered,
        refused: point.refused,
        ttft: point.ttft,
        itl: point.itl,
    };
    Ok(HttpResponse::Ok().json(History {
        span,
        points: points.into_iter().map(point).collect(),
    }))
}

/// What `GET /manage/requests` is asked: all conditions have to hold.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub struct RequestsQuery {
    /// The newest, at most this many.
    #[serde(default = "most_requests")]
    most: usize,
    /// Only calls of this model.
    model: Option<String>,
    /// Only calls that ended so, such as `length` or `queue_full`.
    outcome: Option<String>,
    /// Only calls with the key of this name.
    caller: Option<String>,
    /// Only calls that failed or were refused, or only others.
    failed: Option<bool>,
    /// Only calls of the last seconds, this many.
    within: Option<f64>,
    /// Only calls that arrived before this moment, in milliseconds since 1970.
    before_ms: Option<i64>,
    /// Only calls that took at least this many seconds to the first token.
    least_ttft: Option<f64>,
    /// Only calls that took at least this many seconds to the end.
    least_total: Option<f64>,
}

fn most_requests() -> usize {
    20
}

/// `GET /manage/requests`: the last calls, newest first.
///
/// # Errors
/// 500 when the database cannot be read.
#[utoipa::path(get, path = "/manage/requests", tag = "manage", params(RequestsQuery), responses(
    (status = 200, body = Vec<RecordedCall>), (status = "4XX", body = ErrorEnvelope)))]
pub async fn requests(
    state: web::Data<ServiceState>,
    query: web::Query<RequestsQuery>,
) -> Result<HttpResponse, Problem> {
    let (now, query) = (milliseconds_since_1970(), query.into_inner());
    let filter = CallFilter {
        model: query.model,
        outcome: query.outcome,
        caller: query.caller,
        failed: query.failed,
        from_ms: query
            .within
            .map(|seconds| now.saturating_sub((seconds * 1000.0) as i64)),
        before_ms: query.before_ms,
        least_ttft: query.least_ttft,
        least_total: query.least_total,
    };
    let most = query.most.min(MOST_LISTED);
    let calls = state
        .database(move |store| {
            store.flush();
            store.calls(&filter, most)
        })
        .await?;
    Ok(HttpResponse::Ok().json(calls.into_iter().map(|call| recorded(call, now)).collect::<Vec<_>>()))
}

/// `GET /manage/requests/{id}`: the newest call whose id begins so, whole.
///
/// # Errors
/// 404 when there is none.
#[utoipa::path(get, path = "/manage/requests/{id}", tag = "manage",
    params(("id" = String, Path, description = "The request id, or its beginning")), responses(
    (status = 200, body = CallDetail), (status = "4XX", body = ErrorEnvelope)))]
pub async fn request(state: web::Data<ServiceState>, id: web::Path<String>) -> Result<HttpResponse, Problem> {
    let wanted = id.clone();
    let call = state
        .database(move |store| {
            store.flush();
            store.call(&wanted)
        })
        .await?;
    let mut call = call.ok_or_else(|| {
        Problem::not_kept(format!(
            "there is no request whose id begins with `{id}`; GET /manage/requests lists recent requests"
        ))
    })?;
    let text = call.text.take().map(|text| CallText {
        prompt: text.prompt,
        answer: text.answer,
    });
    Ok(HttpResponse::Ok().json(CallDetail {
        parameters: serde_json::from_str(&call.parameters).unwrap_or(Value::Null),
        gaps: call.gaps.iter().map(|gap| f64::from(*gap) / 1e6).collect(),
        text,
        call: recorded(call, milliseconds_since_1970()),
    }))
}

pub(crate) fn recorded(call: CallRecord, now: i64) -> RecordedCall {
    RecordedCall {
        seconds_ago: (now - call.at_ms) as f64 / 1000.0,
        id: call.id,
        at_ms: call.at_ms,
        endpoint: call.endpoint,
        caller: call.caller,
        model: call.model,
        status: call.status,
        outcome: call.outcome,
        client_gone: call.client_gone,
        streamed: call.streamed,
        prompt_tokens: call.prompt_tokens,
        reused_tokens: call.reused_tokens,
        output_tokens: call.output_tokens,
        preemptions: call.preemptions,
        queued: call.queued,
        prefill: call.prefill,
        ttft: call.ttft,
        itl_mean: call.itl_mean,
        itl_p50: call.itl_p50,
        itl_p90: call.itl_p90,
        itl_p99: call.itl_p99,
        itl_max: call.itl_max,
        total: call.total,
    }
}

/// `GET /manage/keys`: all keys, the oldest first, without their secrets.
///
/// # Errors
/// 500 when the database cannot be read.
#[utoipa::path(get, path = "/manage/keys", tag = "keys", responses((status = 200, body = Vec<KeyEntry>)))]
pub async fn keys(state: web::Data<ServiceState>) -> Result<HttpResponse, Problem> {
    let keys = state
        .database(|store| {
            store.flush();
            store.keys()
        })
        .await?;
    let now = milliseconds_since_1970();
    let entries: Vec<KeyEntry> = keys.into_iter().map(|key| key_entry(key, now)).collect();
    Ok(HttpResponse::Ok().json(entries))
}

/// `POST /manage/keys`: makes a key; its secret is in this answer and nowhere else.
///
/// # Errors
/// 400 for an invalid field.
#[utoipa::path(post, path = "/manage/keys", tag = "keys", request_body = NewKey, responses(
    (status = 201, body = MadeKey), (status = "4XX", body = ErrorEnvelope)))]
pub async fn add_key(state: web::Data<ServiceState>, body: Body) -> Result<HttpResponse, Problem> {
    let wanted: NewKey = parse_body(body.order()?).map_err(|error| Problem::body(&error))?;
    let made = state.database(move |store| match make_key(store, wanted) {
        Err(MakeKeyError::Store(error)) => Err(error),
        made => Ok(made),
    });
    let made = made.await?.map_err(|error| match error {
        MakeKeyError::Field(field, text) => Problem::field(field, text),
        error => Problem::internal(error.to_string()),
    })?;
    Ok(HttpResponse::Created().json(made))
}

/// `DELETE /manage/keys/{id}`: revokes a key, at once and for good.
///
/// # Errors
/// 404 when there is no such key.
#[utoipa::path(delete, path = "/manage/keys/{id}", tag = "keys", params(("id" = String, Path, description = "The key's id")),
    responses((status = 200, body = KeyEntry), (status = "4XX", body = ErrorEnvelope)))]
pub async fn revoke_key(state: web::Data<ServiceState>, id: web::Path<String>) -> Result<HttpResponse, Problem> {
    let (now, wanted) = (milliseconds_since_1970(), id.clone());
    let key = state
        .database(move |store| {
            store.revoke_key(&wanted, now)?;
            store.key(&wanted)
        })
        .await?;
    let key =
        key.ok_or_else(|| Problem::not_kept(format!("there is no key `{id}`; GET /manage/keys lists all keys")))?;
    Ok(HttpResponse::Ok().json(key_entry(key, now)))
}

/// What `GET /manage/runs` is asked.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct RunsQuery {
    /// The newest, at most this many.
    #[serde(default = "most_requests")]
    most: usize,
    /// Without the single requests and samples, which are many.
    #[serde(default)]
    short: bool,
    /// Only runs of this name.
    name: Option<String>,
}

/// `GET /manage/runs`: the load tests that are kept, newest first.
///
/// # Errors
/// 500 when the database cannot be read.
#[utoipa::path(get, path = "/manage/runs", tag = "load", params(RunsQuery), responses((status = 200, body = Vec<RunEntry>)))]
pub async fn runs(state: web::Data<ServiceState>, query: web::Query<RunsQuery>) -> Result<HttpResponse, Problem> {
    let RunsQuery { most, short, name } = query.into_inner();
    let most = most.min(if short { MOST_LISTED } else { MOST_WHOLE_RUNS });
    let json = state.database(move |store| {
        let runs = match &name {
            Some(name) => store.runs_named(name, most)?,
            None => store.runs(most)?,
        };
        let mut entries: Vec<RunEntry> = runs.into_iter().map(run_entry).collect();
        if short {
            for run in entries.iter_mut().filter_map(|entry| entry.run.as_object_mut()) {
                run.remove("requests");
                run.remove("samples");
            }
        }
        Ok(serde_json::to_vec(&entries).expect("wire types are JSON"))
    });
    Ok(HttpResponse::Ok().content_type("application/json").body(json.await?))
}

/// `GET /manage/runs/{id}`: one load test.
///
/// # Errors
/// 404 when it is not kept.
#[utoipa::path(get, path = "/manage/runs/{id}", tag = "load", params(("id" = String, Path, description = "The run's id")),
    responses((status = 200, body = RunEntry), (status = "4XX", body = ErrorEnvelope)))]
pub async fn run(state: web::Data<ServiceState>, id: web::Path<String>) -> Result<HttpResponse, Problem> {
    let wanted = id.clone();
    let run = state.database(move |store| store.run(&wanted)).await?;
    let run = run.ok_or_else(|| Problem::no_run(&id))?;
    Ok(HttpResponse::Ok().json(run_entry(run)))
}

/// `POST /manage/runs`: keeps a load test, in the place of one of the same id.
///
/// # Errors
/// 400 for an invalid id or run.
#[utoipa::path(post, path = "/manage/runs", tag = "load", request_body = RunEntry, responses(
    (status = 201, body = RunEntry), (status = "4XX", body = ErrorEnvelope)))]
pub async fn add_run(state: web::Data<ServiceState>, body: Body) -> Result<HttpResponse, Problem> {
    // A run may have a hundred thousand requests, so it is read where that takes no time from others.
    let entry = web::block(move || read_run(&body)).await;
    let entry = entry.map_err(|error| Problem::internal(error.to_string()))??;
    let record = RunRecord {
        id: entry.id.clone(),
        at_ms: entry.at_ms,
        document: entry.run.to_string(),
    };
    state.database(move |store| store.add_run(&record)).await?;
    Ok(HttpResponse::Created().json(entry))
}

fn read_run(body: &[u8]) -> Result<RunEntry, Problem> {
    let entry: RunEntry = parse_body(body).map_err(|error| Problem::body(&error))?;
    let plain = |byte: u8| byte.is_ascii_alphanumeric() || byte == b'-';
    if entry.id.is_empty() || entry.id.len() > 64 || !entry.id.bytes().all(plain) {
        return Err(Problem::field(
            "id",
            "`id` must have 1 to 64 letters, digits and hyphens".into(),
        ));
    }
    if let Err(error) = vastrelay_loadtest::Run::deserialize(&entry.run) {
        return Err(Problem::field(
            "run",
            format!("`run` is not a load test that this version can read: {error}"),
        ));
    }
    Ok(entry)
}

fn run_entry(run: RunRecord) -> RunEntry {
    RunEntry {
        id: run.id,
        at_ms: run.at_ms,
        run: serde_json::from_str(&run.document).unwrap_or(Value::Null),
    }
}

fn pool_status(pool: &PoolPlan) -> PoolStatus {
    PoolStatus {
        window: pool.sight.window,
        layers: pool.sight.layers,
        page: pool.page,
        pages: pool.pages,
    }
}

pub(crate) fn model_status(state: &ServiceState, replica: &Replica) -> ModelStatus {
    let (status, limits, memory) = (replica.generate.status(), replica.generate.limits(), &replica.memory);
    let window = state
        .recent
        .figures(&replica.name, status.prefill_tokens, status.output_tokens);
    ModelStatus {
        name: replica.name.clone(),
        device: "cpu".into(),
        instructions: replica.instructions.into(),
        cores: replica.cores,
        split: replica.split,
        weights: replica.weights.clone(),
        kv: replica.memory.kv.name().into(),
        parameters: replica.description.parameters(),
        vocabulary: replica.description.vocabulary,
        width: limits.width,
        step_budget: limits.step_budget,
        context: limits.context,
        memory: MemoryStatus {
            weights: memory.weights,
            kv_pool: memory.kv_pool(),
            page: memory.page(),
            page_tokens: vastrelay_engine::PAGE_TOKENS,
            pools: memory.pools.iter().map(pool_status).collect(),
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
        busy: status.busy,
        prefill_tokens: status.prefill_tokens,
        output_tokens: status.output_tokens,
        ended: status.ended,
        preemptions: status.preemptions,
        window,
        uptime: status.uptime,
        failure: status.failure,
    }
}
