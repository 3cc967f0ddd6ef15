//! Long work of the service, and builds: `/manage/jobs`, `/manage/builds`.

use super::change::job_entry;
use crate::http::problem::Problem;
use crate::http::records::Records;
use actix_web::{HttpResponse, web};
use serde::Deserialize;
use utoipa::IntoParams;
use vastrelay_control::jobs::{Jobs, NotCancelled};
use vastrelay_control::placement::loader::Loader;
use vastrelay_store::{BuildRecord, Store, milliseconds_since_1970};
use vastrelay_wire::error::ErrorEnvelope;
use vastrelay_wire::manage::{BuildEntry, JobEntry};

/// Most jobs of a listing.
const MOST_LISTED: usize = 1_000;

/// What `GET /manage/jobs` is asked.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub struct JobsQuery {
    /// The newest, at most this many.
    #[serde(default = "usual_jobs")]
    most: usize,
    /// Only jobs of this kind, such as `build`, `load` or `deploy`.
    kind: Option<String>,
}

fn usual_jobs() -> usize {
    50
}

/// `GET /manage/jobs`: long work of the service, newest first.
///
/// # Errors
/// 500 when the database cannot be read.
#[utoipa::path(get, path = "/manage/jobs", tag = "manage", params(JobsQuery), responses(
    (status = 200, body = Vec<JobEntry>), (status = "4XX", body = ErrorEnvelope)))]
pub async fn jobs(
    jobs: web::Data<Jobs>,
    records: web::Data<Records>,
    query: web::Query<JobsQuery>,
) -> Result<HttpResponse, Problem> {
    let JobsQuery { most, kind } = query.into_inner();
    let list = move |_: &Store| jobs.list(kind.as_deref(), most.min(MOST_LISTED));
    let listed = records.query(list).await?;
    Ok(HttpResponse::Ok().json(listed))
}

/// `GET /manage/jobs/{number}`: one of them, with what it said.
///
/// # Errors
/// 404 when there is none.
#[utoipa::path(get, path = "/manage/jobs/{number}", tag = "manage", params(("number" = i64, Path, description = "The job")), responses(
    (status = 200, body = JobEntry), (status = "4XX", body = ErrorEnvelope)))]
pub async fn job(
    jobs: web::Data<Jobs>,
    records: web::Data<Records>,
    number: web::Path<String>,
) -> Result<HttpResponse, Problem> {
    Ok(HttpResponse::Ok().json(job_entry(&jobs, &records, read(&number)?).await?))
}

/// `DELETE /manage/jobs/{number}`: ends a job early. A load test keeps what was measured so far; of a build nothing is left.
///
/// # Errors
/// 404 when there is none, 409 when it is over.
#[utoipa::path(delete, path = "/manage/jobs/{number}", operation_id = "cancel_job", tag = "manage",
    params(("number" = i64, Path, description = "The job")), responses(
    (status = 202, body = JobEntry), (status = "4XX", body = ErrorEnvelope)))]
pub async fn cancel(
    jobs: web::Data<Jobs>,
    records: web::Data<Records>,
    number: web::Path<String>,
) -> Result<HttpResponse, Problem> {
    let number = read(&number)?;
    let cancelled = jobs.cancel(number);
    let job = job_entry(&jobs, &records, number).await?;
    match cancelled {
        Ok(()) => Ok(HttpResponse::Accepted().json(job)),
        Err(NotCancelled::Over) => {
            let text = format!("job {number} is {}; there is nothing to cancel", job.state);
            Err(Problem::conflict("job_over", text))
        }
        Err(NotCancelled::Holds { kind, endpoint }) => {
            let text = format!(
                "job {number} cannot be cancelled: to {kind} `{endpoint}` holds from its beginning on; deploy or start it again"
            );
            Err(Problem::conflict("job_holds", text))
        }
    }
}

/// `GET /manage/builds`: models that the service has converted once, with size and users, newest first.
///
/// # Errors
/// 500 when the database cannot be read.
#[utoipa::path(get, path = "/manage/builds", tag = "manage", responses(
    (status = 200, body = Vec<BuildEntry>), (status = "4XX", body = ErrorEnvelope)))]
pub async fn builds(records: web::Data<Records>, loader: web::Data<Loader>) -> Result<HttpResponse, Problem> {
    let builds = records.query(|store| store.builds()).await?;
    let holders = |digest: &str| {
        let builds = loader.builds.as_ref();
        builds.map(|builds| builds.holders(digest)).unwrap_or_default()
    };
    let entry = |build: BuildRecord| {
        let using = holders(&build.digest);
        BuildEntry {
            using,
            ..build_entry(build)
        }
    };
    Ok(HttpResponse::Ok().json(builds.into_iter().map(entry).collect::<Vec<_>>()))
}

/// Reads the number of a job; what is no number names none.
fn read(number: &str) -> Result<i64, Problem> {
    let unknown = || {
        Problem::not_kept(format!(
            "`{}` is not the number of a job",
            number.chars().take(40).collect::<String>()
        ))
    };
    number.parse().map_err(|_| unknown())
}

/// Returns the entry of a build.
fn build_entry(build: BuildRecord) -> BuildEntry {
    BuildEntry {
        digest: build.digest,
        source: build.source,
        precision: build.precision,
        seconds_ago: milliseconds_since_1970().saturating_sub(build.at_ms) as f64 / 1000.0,
        bytes: build.bytes,
        users: build.users,
        using: Vec::new(),
    }
}
