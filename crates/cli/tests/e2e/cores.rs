//! The processor's cores and memory, as endpoints share them.

use crate::deployed::{asked, refused, small, spec, succeeded};
use crate::support::Service;
use serde_json::{Value, json};
use std::time::Duration;
use tempfile::TempDir;

/// Returns the cores that an endpoint holds, and the threads that its replica computes with.
fn cores(service: &Service, name: &str) -> (f64, u64) {
    let status = service.client_json(&["status"]);
    let endpoints = status["endpoints"].as_array().unwrap();
    let endpoint = endpoints.iter().find(|endpoint| endpoint["name"] == name).unwrap();
    let replica = &endpoint["replicas"][0];
    (replica["cores"].as_f64().unwrap(), replica["threads"].as_u64().unwrap())
}

#[tokio::test]
async fn fractions_of_a_core_add_up_and_a_refusal_names_who_holds_the_rest() {
    let files = TempDir::new().unwrap();
    // Of two cores, whatever the machine has.
    let part = files.path().join("part.toml");
    std::fs::write(&part, "name = \"cpu\"\ncores = 2\n").unwrap();
    let service = Service::start(&["--device", &part.display().to_string()]);
    let deploy = |name: &str, rest: &str| {
        let file = spec(files.path(), name, &small(rest));
        succeeded(&service, &["endpoint", "deploy", &file])
    };
    deploy("desk", "device.cores = 0.5");
    deploy("dock", "device.cores = 0.25");
    assert_eq!(
        [cores(&service, "desk"), cores(&service, "dock")],
        [(0.5, 1), (0.25, 1)]
    );
    // Who names none has the free whole core, and then no more than what is left.
    deploy("pier", "");
    assert_eq!(cores(&service, "pier"), (1.0, 1));
    deploy("tides", "");
    assert_eq!(
        [cores(&service, "pier"), cores(&service, "tides")],
        [(0.625, 1), (0.625, 1)]
    );
    let large = spec(files.path(), "large", &small("[device]\ncores = 2\n"));
    refused(
        &service,
        &["endpoint", "deploy", &large],
        &[
            "line 3, column 9",
            "`desk` holds 0.5",
            "`tides` holds 0.625",
            "1.05 can be had",
            "name fewer in `device.cores`",
        ],
    );
    // A change takes no more than the larger of both, and others get back what is given back.
    deploy("desk", "device.cores = 1");
    assert_eq!((cores(&service, "desk").0, cores(&service, "pier").0), (1.0, 0.375));
    for name in ["desk", "tides"] {
        succeeded(&service, &["endpoint", "remove", name]);
    }
    let given_back = async {
        while cores(&service, "pier").0 < 1.0 {
            tokio::task::yield_now().await;
        }
    };
    tokio::time::timeout(Duration::from_secs(30), given_back).await.unwrap();
    refused(&service, &["endpoint", "check", &large], &["`dock` holds 0.25"]);
}

#[tokio::test]
async fn what_shares_cores_answers_as_what_has_its_own() {
    let files = TempDir::new().unwrap();
    let service = Service::start(&[]);
    let deploy = |name: &str, rest: &str| {
        let file = spec(files.path(), name, &small(rest));
        succeeded(&service, &["endpoint", "deploy", &file])
    };
    deploy("desk", "device.split = 2");
    let ask = async |name: &str| {
        let question = asked(name, json!({"temperature": 0, "max_tokens": 40}));
        let (status, answer) = service.post("/v1/chat/completions", &question).await;
        assert_eq!(status, 200, "{answer}");
        answer["choices"].clone()
    };
    let alone = ask("desk").await;
    deploy("dock", "device.split = 2");
    // Neither spins now, and both are busy at once.
    let (one, other) = tokio::join!(ask("desk"), ask("dock"));
    assert_eq!((&one, &other), (&alone, &alone));
}

#[tokio::test]
async fn what_several_read_is_held_once() {
    let files = TempDir::new().unwrap();
    let service = Service::start(&[]);
    for (name, width) in [("desk", 2), ("dock", 3)] {
        let file = spec(files.path(), name, &small(&format!("batch.width = {width}")));
        succeeded(&service, &["endpoint", "deploy", &file]);
    }
    let place = || service.client_json(&["device", "list"])[0]["places"][0].clone();
    let owners = place()["owners"].as_array().unwrap().clone();
    assert!(owners[0]["weights"].as_u64().unwrap() > 4 << 20, "{owners:?}");
    assert_eq!(
        (&owners[1]["weights"], &owners[1]["weights_of"]),
        (&json!(0), &json!("desk"))
    );
    assert!(succeeded(&service, &["device", "list"]).contains("those of desk"));
    // Whoever is left holds it.
    succeeded(&service, &["endpoint", "remove", "desk"]);
    let owners = place()["owners"].as_array().unwrap().clone();
    assert!(owners[0]["weights"].as_u64().unwrap() > 4 << 20, "{owners:?}");
    assert_eq!(owners[0]["weights_of"], Value::Null);
}
