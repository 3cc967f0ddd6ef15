//! Load tests that the service sends to itself, over HTTP as other callers do: `/manage/load`.

use crate::http::guard::{Body, Caller, bearer};
use crate::http::load_tests::{LoadTests, is_under_way};
use crate::http::own_address::OwnAddress;
use crate::http::problem::Problem;
use crate::http::records::Records;
use crate::lifecycle::run::ServiceRun;
use crate::manage::status::service_status;
use crate::telemetry::live::Live;
use actix_web::{HttpRequest, HttpResponse, web};
use futures_util::FutureExt;
use futures_util::future::ready;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::Arc;
use tokio::sync::watch;
use vastrelay_control::control_loop::Control;
use vastrelay_control::endpoints::registry::Endpoints;
use vastrelay_control::endpoints::visibility::Visibility;
use vastrelay_control::jobs::{Job, JobEnd, Jobs, NewJob};
use vastrelay_loadtest::order::{Prepared, prepare};
use vastrelay_loadtest::prompts::Room;
use vastrelay_loadtest::statistics::spread;
use vastrelay_loadtest::target::Look;
use vastrelay_loadtest::{HttpTarget, RunProgress, Span};
use vastrelay_store::RunRecord;
use vastrelay_wire::error::ErrorEnvelope;
use vastrelay_wire::load::{LoadOrder, LoadState, LoadStatus};
use vastrelay_wire::parse::parse_body;

/// `GET /manage/load`: how the newest load test is getting on; `null` when there was none.
#[utoipa::path(get, path = "/manage/load", operation_id = "load_status", tag = "load",
    responses((status = 200, body = Option<LoadStatus>)))]
pub async fn status(load_tests: web::Data<LoadTests>) -> HttpResponse {
    HttpResponse::Ok().json(load_tests.status())
}

/// `DELETE /manage/load`: ends the current load test; the measurements taken so far stay.
///
/// # Errors
/// 404 when there is none.
#[utoipa::path(delete, path = "/manage/load", operation_id = "stop_load", tag = "load", responses(
    (status = 200, body = LoadStatus), (status = "4XX", body = ErrorEnvelope)))]
pub async fn stop(load_tests: web::Data<LoadTests>) -> Result<HttpResponse, Problem> {
    let newest = load_tests.lock();
    let load = newest.as_ref().filter(|load| is_under_way(&load.status));
    let load = load.ok_or_else(|| Problem::not_kept("no load test is under way".into()))?;
    let _ = load.stop.send(true);
    Ok(HttpResponse::Ok().json(&load.status))
}

/// `POST /manage/load`: sends load to a model of this service, with the caller's own key, and keeps the run.
///
/// # Errors
/// 400 when the settings cannot be, 404 for an unknown model, 409 while another is under way.
#[utoipa::path(post, path = "/manage/load", operation_id = "start_load", tag = "load", request_body = LoadOrder, responses(
    (status = 202, body = LoadStatus), (status = "4XX", body = ErrorEnvelope)))]
pub async fn start(
    control: web::Data<Control>,
    load_tests: web::Data<LoadTests>,
    live: web::Data<Live>,
    records: web::Data<Records>,
    own: web::Data<OwnAddress>,
    endpoints: web::Data<Endpoints>,
    service_run: web::Data<ServiceRun>,
    jobs: web::Data<Jobs>,
    caller: web::ReqData<Caller>,
    request: HttpRequest,
    body: Body,
) -> Result<HttpResponse, Problem> {
    let body = Arc::new(body);
    let (order, prepared) = loop {
        let (endpoints, body) = (endpoints.clone(), body.clone());
        // Making prompts takes time that others would wait for.
        let ready = web::block(move || prepared_order(&endpoints, &body)).await;
        match ready.map_err(|error| Problem::internal(error.to_string()))? {
            Ok(ready) => break ready,
            Err(problem) => match problem.is_waited_for() {
                Some(name) => control.wait_for(name, caller.name()).await?,
                None => return Err(problem),
            },
        }
    };
    let url = own_url(&own);
    // The caller's own key, so that its limits hold; a local user or session has none.
    let key = match &caller.key {
        Some(_) => bearer(request.headers()).map(str::to_owned),
        None => None,
    };
    let key = key.unwrap_or_else(|| own.token.clone());
    let target = HttpTarget::new(own.trust(), &url, Some(key), &order.model, order.temperature, true)
        .map_err(Problem::internal)?;
    let target = target.looked_at_by(look(&endpoints, &records, &service_run));
    let status = LoadStatus {
        name: prepared.name.clone(),
        model: order.model.clone(),
        ..LoadStatus::default()
    };
    let stopped = load_tests.begin(status.clone())?;
    let job = begin_job(&jobs, &load_tests, &prepared.name, &order.model, caller.name()).await;
    let job = job.inspect_err(|problem| load_tests.give_up(&problem.to_string()))?;
    live.load(&status);
    let reporter = LoadReporter {
        load_tests,
        live,
        jobs,
        job,
    };
    // A separate thread, so that sending does not delay the threads that answer.
    let thread = std::thread::Builder::new().name("load".into());
    begin_on(thread, reporter, move |reporter| {
        send(reporter, &records, &url, target, prepared, stopped)
    })?;
    Ok(HttpResponse::Accepted().json(status))
}

/// Sends a load test on a thread. One whose thread cannot be started, or panics, is over.
///
/// # Errors
/// 500 when the system gives no thread.
fn begin_on(
    thread: std::thread::Builder,
    reporter: LoadReporter,
    send: impl FnOnce(&LoadReporter) + Send + 'static,
) -> Result<(), Problem> {
    let reporter = Arc::new(reporter);
    let teller = reporter.clone();
    let begun = thread.spawn(move || {
        if catch_unwind(AssertUnwindSafe(|| send(&reporter))).is_err() {
            reporter.fail("its thread panicked; the service's log says why");
        }
    });
    begun.map(drop).map_err(|error| {
        let why = format!("its thread cannot be started: {error}");
        teller.fail(&why);
        Problem::internal(why)
    })
}

/// Takes the load test in as a job that is under way, on a thread that may wait for the database.
async fn begin_job(
    jobs: &web::Data<Jobs>,
    load_tests: &web::Data<LoadTests>,
    name: &str,
    endpoint: &str,
    who: &str,
) -> Result<Arc<Job>, Problem> {
    let (jobs, termination) = (jobs.clone(), load_tests.clone());
    let [name, endpoint, who] = [name, endpoint, who].map(str::to_owned);
    let begun = web::block(move || {
        let wanted = NewJob {
            kind: "load",
            name,
            endpoint: &endpoint,
            who: &who,
        };
        let job = jobs.start(&wanted, move || termination.stop());
        let job = job.map_err(|error| Problem::internal(error.to_string()))?;
        jobs.runs(&job);
        Ok(job)
    });
    begun.await.map_err(|error| Problem::internal(error.to_string()))?
}

/// Reads the settings of a load test and makes its prompts.
fn prepared_order(endpoints: &Endpoints, body: &[u8]) -> Result<(LoadOrder, Prepared), Problem> {
    let order: LoadOrder = parse_body(body).map_err(|error| Problem::body(&error))?;
    let endpoint = endpoints.called(&order.model, &Visibility::all(), "a load test")?;
    let room = Room {
        vocabulary: endpoint.model.description.vocabulary,
        context: endpoint.limits().context,
    };
    let prepared = prepare(&order, room).map_err(|reason| Problem::field("load", reason))?;
    Ok((order, prepared))
}

/// Returns what says how this service stands, without a call.
fn look(endpoints: &web::Data<Endpoints>, records: &web::Data<Records>, service_run: &web::Data<ServiceRun>) -> Look {
    let (endpoints, records, service_run) = (endpoints.clone(), records.clone(), service_run.clone());
    Box::new(move || ready(Some(service_status(&endpoints, &records, &service_run))).boxed())
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

fn send(
    reporter: &LoadReporter,
    records: &Records,
    url: &str,
    target: HttpTarget,
    prepared: Prepared,
    stopped: watch::Receiver<bool>,
) {
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
                    reporter.update(|status| take(status, &progress, span));
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
        records.store.add_run(&record).map_err(|error| error.to_string())?;
        Ok((run.id, run.ended_because))
    });
    reporter.end(&kept);
    reporter.update(|status| match kept {
        Ok((run, ended_because)) => {
            status.state = LoadState::Ended;
            status.part = 1.0;
            status.run = Some(run);
            status.failure = ended_because;
        }
        Err(reason) => {
            status.state = LoadState::Failed;
            status.failure = Some(reason);
        }
    });
}

/// Reports the progress of the load test to its job and to listeners.
struct LoadReporter {
    load_tests: web::Data<LoadTests>,
    live: web::Data<Live>,
    jobs: web::Data<Jobs>,
    job: Arc<Job>,
}

impl LoadReporter {
    /// Changes the status of the load test and sends it to all listeners.
    fn update(&self, change: impl FnOnce(&mut LoadStatus)) {
        let mut newest = self.load_tests.lock();
        if let Some(load) = newest.as_mut() {
            change(&mut load.status);
            self.job.is_so_far(load.status.part);
            self.live.load(&load.status);
        }
    }

    /// Notes that it is over without a run, and why.
    fn fail(&self, why: &str) {
        self.jobs.ends(&self.job, JobEnd::Failed(why.to_owned()));
        self.update(|status| {
            status.state = LoadState::Failed;
            status.failure = Some(why.to_owned());
        });
    }

    /// Notes that it is over, with the name of its run or why there is none.
    fn end(&self, kept: &Result<(String, Option<String>), String>) {
        let end = match kept {
            Ok((run, Some(why))) => JobEnd::Done(format!("run {run}, ended early: {why}")),
            Ok((run, None)) if self.job.is_cancelled() => JobEnd::Done(format!("run {run}, stopped early")),
            Ok((run, None)) => JobEnd::Done(format!("run {run}")),
            Err(why) => JobEnd::Failed(why.clone()),
        };
        self.jobs.ends(&self.job, end);
    }
}

fn take(status: &mut LoadStatus, progress: &RunProgress, span: Span) {
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

#[cfg(test)]
mod tests {
    use super::*;
    use vastrelay_store::{Retention, Store};

    fn reporter(folder: &std::path::Path) -> LoadReporter {
        let records = Arc::new(Records::new(Store::open(folder, Retention::default()).unwrap()));
        let (jobs, load_tests) = (Arc::new(Jobs::new(records.store.clone())), LoadTests::default());
        assert!(load_tests.begin(LoadStatus::default()).is_ok());
        let wanted = NewJob {
            kind: "load",
            name: "knee".into(),
            endpoint: "pierdesk",
            who: "",
        };
        let job = jobs.start(&wanted, || {}).unwrap();
        LoadReporter {
            load_tests: web::Data::new(load_tests),
            live: web::Data::new(Live::default()),
            jobs: web::Data::from(jobs),
            job,
        }
    }

    fn is_over(load_tests: &LoadTests, why: &str) {
        let status = load_tests.status().unwrap();
        assert_eq!(status.state, LoadState::Failed);
        assert!(status.failure.as_ref().unwrap().contains(why), "{status:?}");
        assert!(
            load_tests.begin(LoadStatus::default()).is_ok(),
            "the next one may begin"
        );
    }

    #[test]
    fn a_load_test_to_which_the_system_gives_no_thread_is_over() {
        let folder = tempfile::tempdir().unwrap();
        let reporter = reporter(folder.path());
        let load_tests = reporter.load_tests.clone();
        // No machine has room for such a stack, so that the system itself refuses.
        let thread = std::thread::Builder::new().stack_size(1 << 60);
        assert!(begin_on(thread, reporter, |_| panic!("it cannot run")).is_err());
        is_over(&load_tests, "its thread cannot be started");
    }

    #[test]
    fn a_load_test_whose_thread_panics_is_over() {
        let folder = tempfile::tempdir().unwrap();
        let reporter = reporter(folder.path());
        let load_tests = reporter.load_tests.clone();
        assert!(begin_on(std::thread::Builder::new(), reporter, |_| panic!("on purpose")).is_ok());
        while load_tests
            .status()
            .is_some_and(|status| status.state != LoadState::Failed)
        {
            std::thread::yield_now();
        }
        is_over(&load_tests, "its thread panicked");
    }
}
