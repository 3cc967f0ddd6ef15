//! Long work of the service: builds, which are made once for what they are made of, and load tests.

use crate::deployed::{LOOPBACK, asked, client, refused, small, spec, states, succeeded};
use crate::support::Service;
use crate::taken::specimen;
use serde_json::{Value, json};
use std::path::Path;
use tempfile::TempDir;

const INT8: &str = "precision.weights = \"int8\"";

/// Returns builds and load tests, newest first.
pub fn jobs(service: &Service) -> Vec<Value> {
    let mut jobs = service
        .client_json(&["job", "list", "--most", "1000"])
        .as_array()
        .unwrap()
        .clone();
    jobs.retain(|job| job["kind"] == "build" || job["kind"] == "load");
    jobs
}

/// Returns the number of a job.
fn number(job: &Value) -> String {
    job["number"].to_string()
}

fn builds(service: &Service) -> Vec<Value> {
    service.client_json(&["model", "builds"]).as_array().unwrap().clone()
}

/// Returns the newest build or load test once it is in a state.
async fn newest_in(service: &Service, state: &str) -> Value {
    let is_there = async {
        loop {
            let all = service.get("/manage/jobs").await.1;
            let mut all = all.as_array().into_iter().flatten();
            let newest = all.find(|job| job["kind"] == "build" || job["kind"] == "load");
            if let Some(job) = newest.filter(|job| job["state"] == state) {
                return job.clone();
            }
            tokio::task::yield_now().await;
        }
    };
    let waited = tokio::time::timeout(std::time::Duration::from_secs(60), is_there).await;
    waited.unwrap_or_else(|_| panic!("no job is {state}: {:?}", jobs(service)))
}

/// Returns the spec of a model that takes a while to be converted.
pub fn large(model: &TempDir) -> String {
    format!(
        "model = {:?}\nprecision.weights = \"int4\"\n",
        model.path().display().to_string()
    )
}

fn partial_builds(data: &Path) -> usize {
    let entries = std::fs::read_dir(data.join("builds")).unwrap().flatten();
    let is_partial = |entry: &std::fs::DirEntry| entry.path().extension().is_some_and(|end| end == "partial");
    entries.filter(is_partial).count()
}

#[tokio::test]
async fn what_is_made_of_the_same_is_built_once_and_deleted_with_its_last_user() {
    let files = TempDir::new().unwrap();
    let service = Service::start(&[]);
    let deploy = |name: &str, rest: &str| {
        let (succeeded, said) = client(
            &service,
            &["endpoint", "deploy", &spec(files.path(), name, &small(rest))],
        );
        assert!(succeeded, "{said}");
        said
    };
    let said = deploy("desk", INT8);
    assert!(said.contains("ready after") && said.contains("building"), "{said}");
    deploy("dock", &format!("batch.width = 3\n{INT8}"));
    // What is stored in another order than kernels read is built, too, whichever of a list of devices it runs on.
    deploy("pier", "");
    deploy("tides", "device.profile = [\"sim-24g\", \"cpu\"]\ndevice.split = 1");
    let made = jobs(&service);
    assert_eq!(made.len(), 2, "{made:?}");
    assert_eq!(
        (&made[1]["kind"], &made[1]["state"], &made[1]["endpoint"]),
        (&json!("build"), &json!("done"), &json!("desk"))
    );
    assert!(made[0]["name"].as_str().unwrap().contains("as stored"), "{made:?}");
    let first = number(&made[1]);
    let shown = succeeded(&service, &["job", "show", &first]);
    for part in ["int8, groups of", "for desk", "converting", "done:"] {
        assert!(shown.contains(part), "{shown}");
    }
    assert!(succeeded(&service, &["job", "follow", &first]).contains("done after"));
    assert_eq!(builds(&service)[1]["users"], json!(["desk", "dock"]));
    let answer = |name: &'static str| asked(name, json!({"temperature": 0, "max_tokens": 30}));
    let (_, before) = service.post("/v1/chat/completions", &answer("desk")).await;
    // The next service maps it, too; another precision is another build.
    let service = Service::start_in(service.kill(), &LOOPBACK);
    assert_eq!(jobs(&service).len(), 2);
    let (status, after) = service.post("/v1/chat/completions", &answer("desk")).await;
    assert_eq!((status, &after["choices"]), (200, &before["choices"]));
    let file = spec(files.path(), "dock", &small("precision.weights = \"int4\""));
    succeeded(&service, &["endpoint", "deploy", &file]);
    assert_eq!((jobs(&service).len(), builds(&service).len()), (3, 3));
    let said = succeeded(&service, &["endpoint", "remove", "dock"]);
    assert!(said.contains("deleted its build") && said.contains("int4"), "{said}");
    assert_eq!(
        builds(&service).len(),
        2,
        "an earlier release of `dock` used the other, as `desk` does"
    );
    let said = succeeded(&service, &["endpoint", "remove", "desk"]);
    assert!(said.contains("deleted its build") && said.contains("int8"), "{said}");
    succeeded(&service, &["endpoint", "remove", "pier"]);
    let data = service.kill();
    let left = std::fs::read_dir(data.path().join("builds")).unwrap().count();
    assert_eq!(left, 0);
}

/// Kills a service this many times during the build for a deployment. No partial build stays or gets used, and each next service resumes the
/// deployment by itself.
pub async fn kill_while_building(data: TempDir, file: &str, times: usize) -> TempDir {
    let mut service = Service::start_in(data, &LOOPBACK);
    let mut deploying = service.client_later(&["endpoint", "deploy", file]);
    for _ in 0..times {
        let job = newest_in(&service, "running").await;
        while partial_builds(service.data.path()) == 0 {
            tokio::task::yield_now().await;
        }
        service = Service::start_in(service.kill(), &LOOPBACK);
        let shown = service.client_json(&["job", "show", &number(&job)]);
        assert_eq!(shown["state"], "interrupted", "{shown}");
        assert_eq!(builds(&service).len(), 0);
    }
    // Whether it followed the job to the next service is a matter of luck.
    deploying.wait().unwrap();
    service.kill()
}

#[tokio::test]
async fn a_build_that_is_cancelled_or_killed_leaves_nothing_and_can_be_made_again() {
    let (files, model) = (TempDir::new().unwrap(), specimen(512, 8, 8, 4, 1536, 2_048));
    let file = spec(files.path(), "desk", &large(&model));
    let service = Service::start(&[]);
    let deploying = service.client_later(&["endpoint", "deploy", &file]);
    let job = number(&newest_in(&service, "running").await);
    let said = succeeded(&service, &["job", "cancel", &job]);
    assert!(said.contains(&format!("cancelling job {job}")), "{said}");
    let deployed = deploying.wait_with_output().unwrap();
    let said = String::from_utf8_lossy(&deployed.stderr).into_owned();
    assert!(!deployed.status.success() && said.contains("was cancelled"), "{said}");
    assert_eq!(jobs(&service)[0]["state"], "cancelled");
    refused(
        &service,
        &["job", "follow", &job],
        &[&format!("job {job} is cancelled")],
    );
    refused(&service, &["job", "cancel", &job], &["nothing to cancel"]);
    refused(&service, &["job", "show", "9"], &["no job 9"]);
    assert_eq!((states(&service), builds(&service).len()), (json!({}), 0));
    // A service that is killed takes its conversion with it, and the next one makes the build.
    let data = kill_while_building(service.kill(), &file, 3).await;
    let service = Service::start_in(data, &LOOPBACK);
    succeeded(&service, &["endpoint", "wait", "desk"]);
    assert_eq!((jobs(&service).len(), builds(&service).len()), (5, 1));
    // One that is not what was written is not used, but made again.
    let digest = builds(&service)[0]["digest"].as_str().unwrap().to_owned();
    let data = service.kill();
    let weights = data.path().join("builds").join(digest).join("build.safetensors");
    let mut bytes = std::fs::read(&weights).unwrap();
    let middle = bytes.len() / 2;
    bytes[middle] ^= 0x55;
    std::fs::write(&weights, bytes).unwrap();
    let service = Service::start_in(data, &LOOPBACK);
    succeeded(&service, &["endpoint", "wait", "desk"]);
    assert_eq!((jobs(&service).len(), &jobs(&service)[0]["state"]), (6, &json!("done")));
}

#[tokio::test]
async fn a_load_test_is_a_job_and_an_end_of_the_service_interrupts_it() {
    let service = Service::demo(&[]);
    let order = json!({"model": "pierdesk", "name": "rush", "arrival": {"kind": "closed", "users": 2},
        "span": {"seconds": 600.0}, "prompts": {"kind": "set", "name": "questions"}});
    assert_eq!(service.post("/manage/load", &order).await.0, 202);
    let job = newest_in(&service, "running").await;
    assert_eq!(
        (&job["kind"], &job["name"], &job["endpoint"]),
        (&json!("load"), &json!("rush"), &json!("pierdesk"))
    );
    let number = job["number"].to_string();
    succeeded(&service, &["job", "cancel", &number]);
    let done = newest_in(&service, "done").await;
    let outcome = done["outcome"].as_str().unwrap();
    assert!(outcome.contains("stopped early"), "{outcome}");
    let run = service.get("/manage/runs").await.1[0]["id"]
        .as_str()
        .unwrap()
        .to_owned();
    assert!(outcome.contains(&run), "{outcome}");
    while service.post("/manage/load", &order).await.0 != 202 {
        tokio::task::yield_now().await;
    }
    let number = newest_in(&service, "running").await["number"].to_string();
    let service = Service::start_in(service.kill(), &LOOPBACK);
    let shown = service.client_json(&["job", "show", &number]);
    assert_eq!(shown["state"], "interrupted");
    assert!(!shown.to_string().contains("Bearer"), "{shown}");
}
