//! Load tests that the service sends to itself, over HTTP like anybody else: `/manage/load`.

use crate::guard::Body;
use crate::loads::is_under_way;
use crate::own_address::OwnAddress;
use crate::problem::Problem;
use crate::state::ServiceState;
use actix_web::http::header::AUTHORIZATION;
use actix_web::{HttpRequest, HttpResponse, web};
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};
use tokio::sync::watch;
use vastrelay_loadtest::order::{Prepared, prepare};
use vastrelay_loadtest::prompts::Room;
use vastrelay_loadtest::statistics::spread;
use vastrelay_loadtest::{HttpTarget, Progress, Span};
use vastrelay_store::RunRecord;
use vastrelay_wire::error::ErrorEnvelope;
use vastrelay_wire::load::{LoadOrder, LoadState, LoadStatus};
use vastrelay_wire::parse::parse_body;

/// `GET /manage/load`: how the newest load test is getting on; `null` when there was none.
#[utoipa::path(get, path = "/manage/load", operation_id = "load_status", tag = "load",
    responses((status = 200, body = Option<LoadStatus>)))]
pub async fn status(state: web::Data<ServiceState>) -> HttpResponse {
    HttpResponse::Ok().json(state.loads.status())
}

/// `DELETE /manage/load`: ends the load test that is under way; what was measured so far is kept.
///
/// # Errors
/// 404 when there is none.
#[utoipa::path(delete, path = "/manage/load", operation_id = "stop_load", tag = "load", responses(
    (status = 200, body = LoadStatus), (status = "4XX", body = ErrorEnvelope)))]
pub async fn stop(state: web::Data<ServiceState>) -> Result<HttpResponse, Problem> {
    let newest = state.loads.lock();
    let load = newest.as_ref().filter(|load| is_under_way(&load.status));
    let load = load.ok_or_else(|| Problem::not_kept("no load test is under way".into()))?;
    let _ = load.stop.send(true);
    Ok(HttpResponse::Ok().json(&load.status))
}

/// `POST /manage/load`: sends load to a model of this service, with the caller's own key, and keeps the run.
///
/// # Errors
/// 400 when the order cannot be, 404 for an unknown model, 409 while another is under way.
#[utoipa::path(post, path = "/manage/load", operation_id = "start_load", tag = "load", request_body = LoadOrder, responses(
    (status = 202, body = LoadStatus), (status = "4XX", body = ErrorEnvelope)))]
pub async fn start(
    state: web::Data<ServiceState>,
    own: web::Data<OwnAddress>,
    request: HttpRequest,
    body: Body,
) -> Result<HttpResponse, Problem> {
    let shared = state.clone();
    // Making prompts takes time that others would wait for.
    let ready = web::block(move || ready(&shared, &body)).await;
    let (order, prepared) = ready.map_err(|error| Problem::internal(error.to_string()))??;
    let url = own_url(&own);
    let key = request
        .headers()
        .get(AUTHORIZATION)
        .and_then(|value| value.to_str().ok());
    let key = key.and_then(|value| Some(value.split_once(' ')?.1.trim().to_owned()));
    let target =
        HttpTarget::new(own.trust(), &url, key, &order.model, order.temperature, true).map_err(Problem::internal)?;
    let status = LoadStatus {
        name: prepared.name.clone(),
        model: order.model.clone(),
        ..LoadStatus::default()
    };
    let stopped = state.loads.begin(status.clone())?;
    state.live.load(&status);
    // A thread of its own: the workers that answer are not to be held up by those that ask.
    std::thread::Builder::new()
        .name("load".into())
        .spawn(move || send(&state, &url, target, prepared, stopped))
        .map_err(|error| Problem::internal(error.to_string()))?;
    Ok(HttpResponse::Accepted().json(status))
}

/// Reads an order and makes its prompts.
fn ready(state: &ServiceState, body: &[u8]) -> Result<(LoadOrder, Prepared), Problem> {
    let order: LoadOrder = parse_body(body).map_err(|error| Problem::body(&error))?;
    let replica = state.model(&order.model)?;
    let room = Room {
        vocabulary: replica.description.vocabulary,
        context: replica.generate.limits().context,
    };
    let prepared = prepare(&order, room).map_err(|reason| Problem::field("load", reason))?;
    Ok((order, prepared))
}

/// Returns the address at which this service reaches itself.
fn own_url(own: &OwnAddress) -> String {
    let mut address = own.socket;
    if address.ip().is_unspecified() {
        address.set_ip(match address.ip() {
            IpAddr::V4(_) => Ipv4Addr::LOCALHOST.into(),
            IpAddr::V6(_) => Ipv6Addr::LOCALHOST.into(),
        });
    }
    let scheme = if own.certificate.is_some() { "https" } else { "http" };
    format!("{scheme}://{address}")
}

fn send(state: &ServiceState, url: &str, target: HttpTarget, prepared: Prepared, stopped: watch::Receiver<bool>) {
    let Prepared {
        name,
        workload,
        prompts,
    } = prepared;
    let span = workload.span;
    let outcome = tokio::runtime::Builder::new_current_thread()
        .enable_all()
        .build()
        .map_err(|error| error.to_string())
        .and_then(|runtime| {
            runtime.block_on(vastrelay_loadtest::run(
                &name,
                url,
                target,
                workload,
                prompts,
                stopped,
                |progress| {
                    tell(state, |status| take(status, &progress, span));
                },
            ))
        });
    let kept = outcome.and_then(|run| {
        let document = serde_json::to_string(&run).map_err(|error| error.to_string())?;
        let record = RunRecord {
            id: run.id.clone(),
            at_ms: run.begun_ms,
            document,
        };
        state.store.add_run(&record).map_err(|error| error.to_string())?;
        Ok(run.id)
    });
    tell(state, |status| match kept {
        Ok(run) => {
            status.state = LoadState::Ended;
            status.part = 1.0;
            status.run = Some(run);
        }
        Err(reason) => {
            status.state = LoadState::Failed;
            status.failure = Some(reason);
        }
    });
}

/// Changes the status of the load test and tells whoever listens.
fn tell(state: &ServiceState, change: impl FnOnce(&mut LoadStatus)) {
    let mut newest = state.loads.lock();
    if let Some(load) = newest.as_mut() {
        change(&mut load.status);
        state.live.load(&load.status);
    }
}

fn take(status: &mut LoadStatus, progress: &Progress, span: Span) {
    status.state = if progress.warming_up {
        LoadState::Warming
    } else {
        LoadState::Sending
    };
    let part = match span {
        Span::Seconds(seconds) => progress.seconds / seconds,
        Span::Requests(count) => progress.ended as f64 / count as f64,
    };
    status.part = part.min(1.0);
    status.seconds = progress.seconds;
    status.sent = progress.sent;
    status.ended = progress.ended;
    status.errors = progress.errors;
    status.output_tokens = progress.output_tokens;
    status.ttft_p50 = spread(progress.recent_ttft.clone()).p50;
}

/// Returns a run that is kept.
async fn kept_run(state: &web::Data<ServiceState>, id: &str) -> Result<vastrelay_loadtest::Run, Problem> {
    let wanted = id.to_owned();
    let run = state.database(move |store| {
        let record = store.run(&wanted)?;
        Ok(record.map(|record| serde_json::from_str(&record.document)))
    });
    let run = run.await?.ok_or_else(|| Problem::no_run(id))?;
    run.map_err(|error| {
        let message = format!("the run `{id}` was made by another version and cannot be read: {error}");
        Problem::conflict("unreadable_run", message)
    })
}

/// What `GET /manage/runs/{id}/report` is asked.
#[derive(serde::Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
pub struct ReportQuery {
    /// `html` or `csv`.
    form: ReportForm,
}

/// How a report is written.
#[derive(Clone, Copy, serde::Deserialize, utoipa::ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum ReportForm {
    /// A page that stands alone.
    Html,
    /// One line for each request.
    Csv,
}

/// `GET /manage/runs/{id}/report`: a run as a file to keep.
///
/// # Errors
/// 404 when it is not kept.
#[utoipa::path(get, path = "/manage/runs/{id}/report", tag = "load",
    params(("id" = String, Path, description = "The run's id"), ReportQuery), responses(
    (status = 200, description = "The report", content((String = "text/html"), (String = "text/csv"))),
    (status = "4XX", body = ErrorEnvelope)))]
pub async fn report(
    state: web::Data<ServiceState>,
    id: web::Path<String>,
    query: web::Query<ReportQuery>,
) -> Result<HttpResponse, Problem> {
    let (run, form) = (kept_run(&state, &id).await?, query.form);
    let written = web::block(move || match form {
        ReportForm::Html => vastrelay_loadtest::report::html(&run),
        ReportForm::Csv => vastrelay_loadtest::report::csv(&run),
    });
    let written = written.await.map_err(|error| Problem::internal(error.to_string()))?;
    let kind = match form {
        ReportForm::Html => "text/html; charset=utf-8",
        ReportForm::Csv => "text/csv; charset=utf-8",
    };
    Ok(HttpResponse::Ok()
        .content_type(kind)
        .body(written.map_err(Problem::internal)?))
}

/// What `GET /manage/comparison` is asked.
#[derive(serde::Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
pub struct ComparisonQuery {
    /// The id of the first run.
    a: String,
    /// The id of the second.
    b: String,
}

/// `GET /manage/comparison`: two runs side by side, with what chance alone may explain.
///
/// # Errors
/// 404 when one of them is not kept.
#[utoipa::path(get, path = "/manage/comparison", tag = "load", params(ComparisonQuery), responses(
    (status = 200, description = "Figures of both, ratios and their intervals, and what differs between the set-ups",
        body = serde_json::Value),
    (status = "4XX", body = ErrorEnvelope)))]
pub async fn comparison(
    state: web::Data<ServiceState>,
    query: web::Query<ComparisonQuery>,
) -> Result<HttpResponse, Problem> {
    let (a, b) = (kept_run(&state, &query.a).await?, kept_run(&state, &query.b).await?);
    // Thousands of resamplings take a while; the workers have others to answer.
    let comparison = web::block(move || vastrelay_loadtest::compare::compare(&a, &b)).await;
    Ok(HttpResponse::Ok().json(comparison.map_err(|error| Problem::internal(error.to_string()))?))
}
