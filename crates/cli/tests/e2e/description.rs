//! The description of the interface: valid, complete, and no request that it allows breaks the service.

use crate::clients::python;
use crate::support::Service;
use serde_json::json;
use std::process::Command;

#[tokio::test]
async fn the_description_is_valid_and_its_addresses_answer() {
    let service = Service::demo(&[]);
    let (status, document) = service.get("/openapi.json").await;
    assert_eq!((status, &document["openapi"]), (200, &"3.1.0".into()));
    let file = service.data.path().join("openapi.json");
    std::fs::write(&file, document.to_string()).unwrap();
    let check = "import sys, json, openapi_spec_validator as v; v.validate(json.load(open(sys.argv[1])))";
    let output = Command::new(python().join("python"))
        .args(["-c", check])
        .arg(&file)
        .output()
        .unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));

    for (path, methods) in document["paths"].as_object().unwrap() {
        if path == "/manage/live" {
            continue;
        }
        let path = path.replace("{name}", "pierdesk").replace("{id}", "0");
        let unused = service.call(reqwest::Method::PATCH, &path).send().await.unwrap();
        assert_eq!(unused.status(), 405, "{path}");
        let allowed = unused.headers()["allow"].to_str().unwrap().to_lowercase();
        let described: Vec<&str> = methods.as_object().unwrap().keys().map(String::as_str).collect();
        assert_eq!(allowed, described.join(", "), "{path}");
    }
}

#[tokio::test]
async fn no_request_that_the_description_allows_breaks_the_service() {
    let service = Service::demo(&["--context", "256"]);
    let (_, mut document) = service.get("/openapi.json").await;
    // Made-up models would only ever be refused.
    for (_, schema) in document["components"]["schemas"].as_object_mut().unwrap() {
        if schema["properties"]["messages"].is_object() || schema["properties"]["prompt"].is_object() {
            schema["properties"]["model"] = json!({"type": "string", "enum": ["pierdesk"]});
            // Any other field may be sent; made-up ones would crowd out those that do something.
            schema["additionalProperties"] = json!(false);
            for limit in ["max_tokens", "max_completion_tokens"] {
                schema["properties"][limit] = json!({"type": "integer", "minimum": 1, "maximum": 64});
            }
        }
    }
    let role = &mut document["components"]["schemas"]["ChatMessage"]["properties"]["role"];
    *role = json!({"type": "string", "enum": ["system", "user", "assistant"]});
    let file = service.data.path().join("openapi.json");
    std::fs::write(&file, document.to_string()).unwrap();
    let made = service.client_json(&["key", "create", "--name", "ops", "--scope", "manage"]);
    let header = format!("Authorization: Bearer {}", made["key"].as_str().unwrap());
    let run = |words: &[&str]| {
        let output = Command::new(python().join("schemathesis"))
            .arg("run")
            .arg(&file)
            .args([
                "--url",
                &service.url,
                "--checks",
                "not_a_server_error",
                "--max-examples",
                "25",
                "--seed",
                "7",
            ])
            .args(words)
            // The live stream never ends.
            .args([
                "--exclude-path",
                "/manage/live",
                // The only endpoint stays.
                "--exclude-operation-id",
                "remove_endpoint",
                "--exclude-operation-id",
                "stop_endpoint",
                // An endpoint that a request has deployed need not be ready.
                "--exclude-operation-id",
                "endpoint_ready",
                // It is not ready for a moment.
                "--exclude-operation-id",
                "renew_endpoint",
                "--exclude-operation-id",
                "park_endpoint",
                "--no-color",
                "--suppress-health-check",
                "all",
                "--request-timeout",
                "60",
            ])
            .current_dir(service.data.path())
            .output()
            .unwrap();
        let said = String::from_utf8_lossy(&output.stdout);
        assert!(
            output.status.success(),
            "{said}\n{}",
            String::from_utf8_lossy(&output.stderr)
        );
    };
    // Models are called without a key; managing needs one.
    run(&["--include-tag", "openai", "--include-tag", "text"]);
    run(&["--exclude-tag", "openai", "--exclude-tag", "text", "--header", &header]);
    let calls = service.get("/manage/requests?most=1000").await.1;
    let answered = calls.as_array().unwrap().iter().filter(|call| call["status"] == 200);
    assert!(
        answered.count() > 0,
        "no request was good enough to be answered: {calls}"
    );
    assert!(service.ask("Hello").await.contains("passenger desk"));
}
