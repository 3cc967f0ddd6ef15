//! Load tests that are kept: `/manage/runs`, and what is made of them.

use crate::http::guard::{Body, Caller};
use crate::http::problem::Problem;
use crate::http::records::Records;
use actix_web::{HttpResponse, web};
use serde::Deserialize;
use serde_json::Value;
use utoipa::IntoParams;
use vastrelay_control::events::EventLog;
use vastrelay_loadtest::Run;
use vastrelay_loadtest::run::current;
use vastrelay_store::RunRecord;
use vastrelay_wire::error::ErrorEnvelope;
use vastrelay_wire::manage::{EventKind, RemovedRun, RunEntry};
use vastrelay_wire::parse::parse_body;

/// Most load tests that are listed in short, and whole.
const MOST_LISTED: usize = 10_000;
const MOST_WHOLE_RUNS: usize = 20;

/// What `GET /manage/runs` is asked.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct RunsQuery {
    /// The newest, at most this many.
    #[serde(default = "usual_most")]
    most: usize,
    /// Without the single requests and samples, which are many.
    #[serde(default)]
    short: bool,
    /// Only runs of this name.
    name: Option<String>,
}

fn usual_most() -> usize {
    20
}

/// `GET /manage/runs`: the load tests that are kept, newest first.
///
/// # Errors
/// 500 when the database cannot be read.
#[utoipa::path(get, path = "/manage/runs", tag = "load", params(RunsQuery), responses((status = 200, body = Vec<RunEntry>)))]
pub async fn runs(records: web::Data<Records>, query: web::Query<RunsQuery>) -> Result<HttpResponse, Problem> {
    let RunsQuery { most, short, name } = query.into_inner();
    let most = most.min(if short { MOST_LISTED } else { MOST_WHOLE_RUNS });
    let json = records.query(move |store| {
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
pub async fn run(records: web::Data<Records>, id: web::Path<String>) -> Result<HttpResponse, Problem> {
    let wanted = id.clone();
    let run = records.query(move |store| store.run(&wanted)).await?;
    let run = run.ok_or_else(|| Problem::no_run(&id))?;
    Ok(HttpResponse::Ok().json(run_entry(run)))
}

/// `POST /manage/runs`: keeps a load test, in the place of one of the same id.
///
/// # Errors
/// 400 for an invalid id or run.
#[utoipa::path(post, path = "/manage/runs", tag = "load", request_body = RunEntry, responses(
    (status = 201, body = RunEntry), (status = "4XX", body = ErrorEnvelope)))]
pub async fn add_run(records: web::Data<Records>, body: Body) -> Result<HttpResponse, Problem> {
    // A run may have a hundred thousand requests, so it is read where that takes no time from others.
    let entry = web::block(move || read_run(&body)).await;
    let entry = entry.map_err(|error| Problem::internal(error.to_string()))??;
    let record = RunRecord {
        id: entry.id.clone(),
        at_ms: entry.at_ms,
        document: entry.run.to_string(),
    };
    records.query(move |store| store.add_run(&record)).await?;
    Ok(HttpResponse::Created().json(entry))
}

/// `DELETE /manage/runs/{id}`: deletes a load test for good.
///
/// # Errors
/// 404 when it is not kept.
#[utoipa::path(delete, path = "/manage/runs/{id}", tag = "load", params(("id" = String, Path, description = "The run's id")),
    responses((status = 200, body = RemovedRun), (status = "4XX", body = ErrorEnvelope)))]
pub async fn remove_run(
    records: web::Data<Records>,
    caller: web::ReqData<Caller>,
    id: web::Path<String>,
) -> Result<HttpResponse, Problem> {
    let wanted = id.clone();
    if !records.query(move |store| store.delete_run(&wanted)).await? {
        return Err(Problem::no_run(&id));
    }
    EventLog::new(&records.store, "", 0).done_by(caller.name(), EventKind::RunRemoved, id.clone());
    Ok(HttpResponse::Ok().json(RemovedRun { id: id.into_inner() }))
}

fn read_run(body: &[u8]) -> Result<RunEntry, Problem> {
    let mut entry: RunEntry = parse_body(body).map_err(|error| Problem::body(&error))?;
    let plain = |byte: u8| byte.is_ascii_alphanumeric() || byte == b'-';
    if entry.id.is_empty() || entry.id.len() > 64 || !entry.id.bytes().all(plain) {
        return Err(Problem::field(
            "id",
            "`id` must have 1 to 64 letters, digits and hyphens".into(),
        ));
    }
    let unreadable = |error: String| {
        Problem::field(
            "run",
            format!("`run` is not a load test that this version can read: {error}"),
        )
    };
    entry.run = current(entry.run).map_err(unreadable)?;
    Run::deserialize(&entry.run).map_err(|error| unreadable(error.to_string()))?;
    Ok(entry)
}

fn run_entry(run: RunRecord) -> RunEntry {
    RunEntry {
        id: run.id,
        at_ms: run.at_ms,
        // One that cannot be read does not hide the others.
        run: serde_json::from_str(&run.document)
            .ok()
            .and_then(|run| current(run).ok())
            .unwrap_or(Value::Null),
    }
}

/// Returns a run that is kept.
async fn kept_run(records: &web::Data<Records>, id: &str) -> Result<Run, Problem> {
    let wanted = id.to_owned();
    let run = records.query(move |store| {
        let record = store.run(&wanted)?;
        Ok(record.map(|record| Run::read(&record.document)))
    });
    let run = run.await?.ok_or_else(|| Problem::no_run(id))?;
    run.map_err(|error| {
        let message = format!("the run `{id}` was made by another version and cannot be read: {error}");
        Problem::conflict("unreadable_run", message)
    })
}

/// What `GET /manage/runs/{id}/report` is asked.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct ReportQuery {
    /// `html` or `csv`.
    form: ReportForm,
}

/// How a report is written.
#[derive(Clone, Copy, Deserialize, utoipa::ToSchema)]
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
    records: web::Data<Records>,
    id: web::Path<String>,
    query: web::Query<ReportQuery>,
) -> Result<HttpResponse, Problem> {
    let (run, form) = (kept_run(&records, &id).await?, query.form);
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
#[derive(Deserialize, IntoParams)]
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
    records: web::Data<Records>,
    query: web::Query<ComparisonQuery>,
) -> Result<HttpResponse, Problem> {
    let (a, b) = (kept_run(&records, &query.a).await?, kept_run(&records, &query.b).await?);
    // Thousands of resamplings take a while; the workers have others to answer.
    let comparison = web::block(move || vastrelay_loadtest::compare::compare(&a, &b)).await;
    Ok(HttpResponse::Ok().json(comparison.map_err(|error| Problem::internal(error.to_string()))?))
}
