//! Endpoints that files describe, each with settings of its own.

use crate::support::{Service, chat, repository, vastrelay, with};
use serde_json::{Value, json};
use std::path::Path;
use tempfile::TempDir;

/// Writes a spec whose model is in the demo, and returns its path.
fn spec(folder: &TempDir, name: &str, model: &str, rest: &str) -> String {
    let path = folder.path().join(format!("{name}.toml"));
    let model = repository().join("demo").join(model);
    std::fs::write(&path, format!("model = {:?}\n{rest}", model.display().to_string())).unwrap();
    path.display().to_string()
}

const LARGE: &str = "shapes/lighthouse-70b";
const SMALL: &str = "models/pierdesk-1";

/// Starts with specs; returns what is said when that fails.
fn refused(specs: &[&str]) -> String {
    let data = TempDir::new().unwrap();
    let output = vastrelay()
        .args(["start", "--listen", "127.0.0.1:0", "--data"])
        .arg(data.path())
        .arg("--spec")
        .args(specs)
        .output()
        .unwrap();
    assert!(!output.status.success(), "{specs:?}");
    String::from_utf8_lossy(&output.stderr).into_owned()
}

fn endpoint<'s>(status: &'s Value, name: &str) -> &'s Value {
    let all = status["endpoints"].as_array().unwrap();
    all.iter().find(|endpoint| endpoint["name"] == name).unwrap()
}

#[tokio::test]
async fn the_demo_serves_a_real_model_and_a_simulated_one_from_two_specs() {
    let demo = repository().join("demo");
    let file = |name: &str| demo.join(name).display().to_string();
    let service = Service::start(&["--spec", &file("pierdesk.toml"), &file("lighthouse.toml")]);
    assert!(service.greeting.contains("on cpu, "), "{}", service.greeting);
    assert!(
        service.greeting.contains("on 4 × sim-48g (simulated)"),
        "{}",
        service.greeting
    );
    assert!(
        service.greeting.contains("typical ones of 800 tokens"),
        "{}",
        service.greeting
    );
    for (model, simulated) in [("pierdesk", false), ("lighthouse", true)] {
        let question = with(chat("Hello"), json!({"model": model, "max_tokens": 3}));
        let answer = service.send("/v1/chat/completions", &question).await;
        assert_eq!(answer.status().as_u16(), 200);
        assert_eq!(
            answer.headers().contains_key("x-vastrelay-simulated"),
            simulated,
            "{model}"
        );
    }
    let devices = service.client(&["device", "list"]);
    let devices = String::from_utf8_lossy(&devices.stdout).into_owned();
    for part in [
        "cpu, ",
        "pierdesk, release 1",
        "8 × sim-48g",
        "lighthouse, release 1",
        "5 to 8",
    ] {
        assert!(devices.contains(part), "{part}: {devices}");
    }
}

#[tokio::test]
async fn each_key_of_a_spec_shows_and_what_is_absent_is_as_the_options_say() {
    let folder = TempDir::new().unwrap();
    let rest = r#"
[precision]
weights = "int8"
group = 64
kv = "int8"
[device]
split = 2
[memory]
share = 0.1
pages = 512
[batch]
width = 3
step_budget = 48
prefill_chunk = 32
context = 1024
typical = "100+28"
[queue]
depth = 7
wait = "90s"
"#;
    let own = spec(&folder, "own", SMALL, rest);
    let plain = spec(&folder, "plain", SMALL, "");
    let service = Service::start(&["--spec", &own, &plain, "--width", "5", "--memory-share", "0.2"]);
    assert!(
        service.greeting.contains("the KV pool holds 8 or 64"),
        "{}",
        service.greeting
    );
    let status = service.client_json(&["status"]);
    let (own, plain) = (endpoint(&status, "own"), endpoint(&status, "plain"));
    let replica = &own["replicas"][0];
    assert_eq!(
        own["precision"],
        json!({"weights": "int8", "group": 64, "kv": "int8"}),
        "{own}"
    );
    assert_eq!(own["context"], 1024);
    assert_eq!((&replica["width"], &replica["step_budget"]), (&json!(3), &json!(48)));
    assert_eq!((&replica["split"], &replica["threads"]), (&json!(2), &json!(2)));
    assert_eq!(own["occupancy"]["queue_limit"], 7);
    assert_eq!(own["occupancy"]["pages"], 512);
    assert_eq!(
        (&plain["context"], &plain["replicas"][0]["width"]),
        (&json!(2048), &json!(5))
    );
    let limit = |endpoint: &Value| endpoint["replicas"][0]["memory"]["budget"].as_u64().unwrap();
    assert!(limit(plain).abs_diff(2 * limit(own)) < 4);
}

#[test]
fn what_a_spec_has_wrong_is_refused_at_its_place_with_what_would_work() {
    let folder = TempDir::new().unwrap();
    for (model, rest, parts) in [
        (SMALL, "[batch]\nbreadth = 4\n", ["line 3, column 1", "`width`"]),
        (SMALL, "[batch]\n  width = 0\n", ["line 3, column 11", "from 1 on"]),
        (SMALL, "[batch]\nwidth = 5000\n", ["line 3, column 9", "1 to 4096"]),
        (SMALL, "[batch]\ncontext = 4096\n", ["line 3, column 11", "1 to 2048"]),
        (SMALL, "[device]\nsplit = 5\n", ["line 3, column 9", "use 1 or 2"]),
        (SMALL, "[device]\ncores = 1000\n", ["line 3, column 9", "the cpu has"]),
        (
            SMALL,
            "[device]\nprofile = \"sim-1g\"\n",
            ["line 3, column 11", "sim-24g, sim-48g, sim-80g"],
        ),
        (SMALL, "[memory]\nshare = 2\n", ["line 3, column 9", "at most 1"]),
        (
            SMALL,
            "[device]\nprofile = [\"sim-24g\"]\ncores = 1\n",
            ["line 4, column 9", "`cpu`"],
        ),
        (LARGE, "", ["line 1, column 9", "no safetensors weights"]),
        (
            LARGE,
            "[device]\nprofile = \"sim-48g\"\nsplit = 2\n",
            ["line 3, column 11", "a split of 4 or 8"],
        ),
        ("models/nothing", "", ["line 1, column 9", "nothing"]),
    ] {
        let said = refused(&[&spec(&folder, "desk", model, rest)]);
        for part in ["desk.toml: "].iter().chain(&parts) {
            assert!(said.contains(part), "{rest}: {part}: {said}");
        }
    }
    let (first, other) = (spec(&folder, "desk", SMALL, ""), TempDir::new().unwrap());
    let second = spec(&other, "desk", SMALL, "");
    assert!(refused(&[&first, &second]).contains("two endpoints are named `desk`"));
    assert!(refused(&[&spec(&folder, "a desk", SMALL, "")]).contains("its name is the endpoint's"));
    assert!(refused(&["/nowhere/desk.toml"]).contains("/nowhere/desk.toml"));
}

#[tokio::test]
async fn the_first_device_with_room_is_taken() {
    let folder = TempDir::new().unwrap();
    let profile = include_str!("../../../planner/profiles/sim-48g.toml");
    let own = |name: &str, interruptible: &str| {
        let text = profile
            .replace("\"sim-48g\"", &format!("{name:?}"))
            .replace("count = 8", "count = 4")
            .replace("interruptible = false", interruptible);
        std::fs::write(folder.path().join(format!("{name}.toml")), text).unwrap();
    };
    own("spare", "interruptible = true");
    own("steady", "interruptible = false");
    let rest = "[device]\nprofile = [\"spare.toml\", \"steady.toml\"]\nsplit = 4\n[batch]\ncontext = 2048\n";
    let specs = ["a", "b", "c"].map(|name| spec(&folder, name, LARGE, rest));
    let service = Service::start(&["--spec", &specs[0], &specs[1]]);
    let status = service.client_json(&["status"]);
    assert_eq!(endpoint(&status, "a")["device"], "spare");
    assert_eq!(endpoint(&status, "b")["device"], "steady");
    drop(service);
    // One that finds no room leaves the others as they are.
    let service = Service::start(&["--spec", &specs[0], &specs[1], &specs[2]]);
    assert_eq!(
        service.client_json(&["status"])["endpoints"].as_array().unwrap().len(),
        2
    );
    let said = service.log();
    for part in [
        "c.toml: line 3, column 11",
        "none of its devices has room",
        "`a` ",
        "`b` ",
    ] {
        assert!(said.contains(part), "{part}: {said}");
    }
    assert!(Path::new(&specs[0]).is_file());
}

#[tokio::test]
async fn who_waits_longer_than_the_queue_allows_is_sent_away() {
    let folder = TempDir::new().unwrap();
    let rest =
        "[device]\nprofile = \"sim-48g\"\nsplit = 4\n[batch]\nwidth = 1\ncontext = 4096\n[queue]\nwait = \"300ms\"\n";
    let service = Service::start(&["--spec", &spec(&folder, "big", LARGE, rest)]);
    // Takes minutes, and so the only lane.
    let long = json!({"model": "big", "prompt": "Hello", "max_tokens": 3000, "min_tokens": 3000, "stream": true});
    let running = service.send("/v1/completions", &long).await;
    service
        .wait_for("the lane is taken", |endpoint| endpoint["occupancy"]["lanes_used"] == 1)
        .await;
    let short = json!({"model": "big", "prompt": "Hello", "max_tokens": 1});
    let answer = service.send("/v1/completions", &short).await;
    assert_eq!(answer.status().as_u16(), 503);
    assert_eq!(answer.headers()["retry-after"], "5");
    let body: Value = answer.json().await.unwrap();
    assert_eq!(body["error"]["code"], "queue_wait");
    let record = &service.get("/manage/requests?outcome=queue_wait").await.1[0];
    assert_eq!(record["status"], 503, "{record}");
    drop(running);
}

#[tokio::test]
async fn a_profile_of_the_cpu_names_the_part_that_replicas_may_use() {
    let folder = TempDir::new().unwrap();
    let part = folder.path().join("part.toml");
    std::fs::write(&part, "name = \"cpu\"\ncores = 1\nmemory = \"1 GiB\"\n").unwrap();
    let part = part.display().to_string();
    let service = Service::start(&["--demo", "--device", &part]);
    let device = &service.client_json(&["device", "list"])[0];
    assert_eq!(device["memory"], 1 << 30);
    let endpoint = service.endpoint().await;
    assert_eq!(endpoint["replicas"][0]["cores"], 1.0);
    assert_eq!(endpoint["replicas"][0]["memory"]["device"], 1 << 30);
    let own = spec(&folder, "own", SMALL, &format!("[device]\nprofile = {part:?}\n"));
    let said = refused(&[&own]);
    assert!(
        said.contains("line 3, column 11") && said.contains("start --device"),
        "{said}"
    );
    std::fs::write(&part, "name = \"cpu\"\ncores = 4096\n").unwrap();
    let data = TempDir::new().unwrap();
    let output = vastrelay()
        .args(["start", "--demo", "--device", &part, "--data"])
        .arg(data.path())
        .output();
    let said = String::from_utf8_lossy(&output.unwrap().stderr).into_owned();
    assert!(said.contains("4096 cores; this machine has"), "{said}");
}
