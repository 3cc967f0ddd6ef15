//! Keys, names of hosts, pages of others, limits, TLS.

use crate::support::{Service, chat, first_key, guarded, vastrelay, with};
use reqwest::header::{HOST, ORIGIN};
use reqwest::{Client, StatusCode};
use serde_json::{Value, json};
use std::process::{Output, Stdio};

fn err(output: &Output) -> String {
    String::from_utf8_lossy(&output.stderr).into_owned()
}

async fn code(service: &Service, key: Option<&str>, path: &str) -> (u16, String, String) {
    let request = Client::new().get(format!("{}{path}", service.url));
    let request = match key {
        Some(key) => request.bearer_auth(key),
        None => request,
    };
    let response = request.send().await.unwrap();
    let status = response.status().as_u16();
    let answer: Value = response.json().await.unwrap_or_default();
    let text = |name: &str| answer["error"][name].as_str().unwrap_or_default().to_owned();
    (status, text("code"), text("message"))
}

/// Words that the message of each refusal contains.
const WORDS: [(&str, &str); 5] = [
    ("no_key", "`Authorization: Bearer KEY`"),
    ("unknown_key", "GET /manage/keys"),
    ("expired_key", "has expired"),
    ("revoked_key", "was revoked"),
    ("scope_missing", "a key with scope `manage`"),
];

fn is(found: (u16, String, String), status: u16, code: &str) {
    let words = WORDS.iter().find(|(name, _)| *name == code).unwrap().1;
    assert_eq!((found.0, found.1.as_str()), (status, code));
    assert!(found.2.contains(words), "{}", found.2);
}

#[tokio::test]
async fn without_a_key_nothing_is_told_and_each_refusal_says_which() {
    let service = guarded(&[]);
    let manage = service.key.clone().unwrap();
    for path in ["/v1/models", "/manage/status", "/metrics", "/manage/keys"] {
        is(code(&service, None, path).await, 401, "no_key");
        is(code(&service, Some("vr-00000000-ff"), path).await, 401, "unknown_key");
        is(code(&service, Some("something"), path).await, 401, "unknown_key");
        assert_eq!(code(&service, Some(&manage), path).await.0, 200, "{path}");
    }
    for open in ["/health/live", "/health/ready", "/openapi.json"] {
        assert_eq!(code(&service, None, open).await.0, 200, "{open}");
    }
    let made = service.client_json(&["key", "create", "--name", "ferry desk"]);
    let (key, id) = (made["key"].as_str().unwrap(), made["entry"]["id"].as_str().unwrap());
    assert_eq!(code(&service, Some(key), "/v1/models").await.0, 200);
    assert_eq!(code(&service, Some(key), "/metrics").await.0, 200);
    is(code(&service, Some(key), "/manage/status").await, 403, "scope_missing");
    let listed = service.client(&["key", "list"]);
    let listed = String::from_utf8_lossy(&listed.stdout);
    assert!(
        ["ferry desk", "first", "manage", "valid"]
            .iter()
            .all(|word| listed.contains(word)),
        "{listed}"
    );
    assert!(!listed.contains(key) && !listed.contains(&manage));
    let revoked = service.client(&["key", "revoke", id]);
    assert!(revoked.status.success(), "{}", err(&revoked));
    is(code(&service, Some(key), "/v1/models").await, 401, "revoked_key");
    assert!(err(&service.client(&["key", "revoke", "nope"])).contains("there is no key `nope`"));
    // From outside, in the same database, it works at once too.
    let other = first_key(&service.data, &[]);
    assert_eq!(code(&service, Some(&other), "/v1/models").await.0, 200);
}

#[tokio::test]
async fn a_key_ends_when_its_time_is_up() {
    let service = guarded(&[]);
    let made = service.client_json(&["key", "create", "--name", "brief", "--expires", "2s"]);
    let key = made["key"].as_str().unwrap();
    assert_eq!(code(&service, Some(key), "/v1/models").await.0, 200);
    while service.client_json(&["key", "list"])[1]["state"] == "valid" {}
    is(code(&service, Some(key), "/v1/models").await, 401, "expired_key");
}

#[tokio::test]
async fn the_limits_of_a_key_refuse_with_the_time_to_come_back() {
    let mut service = guarded(&["--width", "4"]);
    let made = service.client_json(&["key", "create", "--name", "slow", "--rate", "3"]);
    let single = service.client_json(&["key", "create", "--name", "single", "--at-once", "1"]);
    let manage = service.key.replace(made["key"].as_str().unwrap().to_owned());
    for _ in 0..3 {
        service.ask("Hello").await;
    }
    let refused = service.send("/v1/chat/completions", &chat("Hello")).await;
    assert_eq!(refused.status(), 429);
    let wait: u64 = refused.headers()["retry-after"].to_str().unwrap().parse().unwrap();
    assert!((1..=20).contains(&wait), "{wait}");
    let answer: Value = refused.json().await.unwrap();
    assert_eq!(answer["error"]["code"], "too_many_a_minute");
    assert!(
        answer["error"]["message"]
            .as_str()
            .unwrap()
            .contains("3 calls a minute")
    );

    service.key = Some(single["key"].as_str().unwrap().to_owned());
    let long = with(
        chat("Hello"),
        json!({"stream": true, "min_tokens": 1900, "max_tokens": 1900}),
    );
    let running = service.send("/v1/chat/completions", &long).await;
    let (status, answer) = service.post("/v1/chat/completions", &chat("Hello")).await;
    assert_eq!((status, &answer["error"]["code"]), (429, &json!("too_many_at_once")));
    assert!(
        answer["error"]["message"]
            .as_str()
            .unwrap()
            .contains("1 calls at the same time"),
        "{answer}"
    );
    drop(running);
    while service.post("/v1/chat/completions", &chat("Hello")).await.0 != 200 {}

    service.key = manage;
    let calls = service.get("/manage/requests?caller=slow&failed=true").await.1;
    assert_eq!(
        (&calls[0]["outcome"], &calls[0]["status"]),
        (&json!("too_many_a_minute"), &json!(429))
    );
}

#[tokio::test]
async fn names_and_pages_of_others_are_turned_away() {
    let service = Service::demo(&["--host", "relay.example", "--origin", "https://desk.example"]);
    let models = || Client::new().get(format!("{}/v1/models", service.url));
    assert_eq!(
        models().header(HOST, "relay.example").send().await.unwrap().status(),
        200
    );
    let rebound = models().header(HOST, "rebound.example").send().await.unwrap();
    assert_eq!(rebound.status(), StatusCode::FORBIDDEN);
    assert!(rebound.text().await.unwrap().contains("--host NAME"));

    let own = service.url.clone();
    assert_eq!(models().header(ORIGIN, own).send().await.unwrap().status(), 200);
    let other = models().header(ORIGIN, "https://other.example").send().await.unwrap();
    assert_eq!(other.status(), StatusCode::FORBIDDEN);
    assert!(!other.headers().contains_key("access-control-allow-origin"));
    assert!(other.text().await.unwrap().contains("--origin URL"));
    let allowed = models().header(ORIGIN, "https://desk.example").send().await.unwrap();
    assert_eq!(allowed.headers()["access-control-allow-origin"], "https://desk.example");
    let ask = Client::new().request(reqwest::Method::OPTIONS, format!("{}/v1/chat/completions", service.url));
    let preflight = ask
        .header(ORIGIN, "https://desk.example")
        .header("access-control-request-method", "POST")
        .header("access-control-request-headers", "authorization,content-type")
        .send()
        .await
        .unwrap();
    assert_eq!(preflight.status(), 200);
    let plain = Service::demo(&[]);
    let answer = Client::new()
        .get(format!("{}/v1/models", plain.url))
        .send()
        .await
        .unwrap();
    assert!(
        !answer
            .headers()
            .keys()
            .any(|name| name.as_str().starts_with("access-control"))
    );
}

#[tokio::test]
async fn headers_and_bodies_have_a_limit_and_what_is_not_kept_is_told() {
    let service = Service::demo(&[]);
    let big = Client::new()
        .get(format!("{}/v1/models", service.url))
        .header("x-big", "x".repeat(40_000));
    let answer = big.send().await.unwrap();
    assert_eq!(answer.status().as_u16(), 431);
    assert!(answer.text().await.unwrap().contains("32768"));
    let body = chat(&"x".repeat(17 << 20));
    let (status, answer) = service.post("/v1/chat/completions", &body).await;
    assert_eq!((status, &answer["error"]["code"]), (413, &json!("body_too_large")));
    assert!(answer["error"]["message"].as_str().unwrap().contains("16.0 MiB"));
    for (path, words) in [
        ("/manage/requests/zz", "GET /manage/requests"),
        ("/manage/runs/zz", "GET /manage/runs"),
    ] {
        let (status, answer) = service.get(path).await;
        assert_eq!((status, &answer["error"]["code"]), (404, &json!("not_found")));
        assert!(answer["error"]["message"].as_str().unwrap().contains(words), "{answer}");
    }
}

#[tokio::test]
async fn beyond_loopback_a_key_is_wanted_before_anything_is_served() {
    let data = tempfile::tempdir().unwrap();
    let listen = ["--demo", "--listen", "0.0.0.0:0"];
    let refused = vastrelay()
        .args(["start", "--data"])
        .arg(data.path())
        .args(listen)
        .output()
        .unwrap();
    assert_eq!(refused.status.code(), Some(1));
    assert!(err(&refused).contains("vastrelay key create"), "{}", err(&refused));
    let key = first_key(&data, &[]);
    let mut service = Service::start_in(data, &listen);
    service.url = service.url.replace("0.0.0.0", "127.0.0.1");
    is(code(&service, None, "/v1/models").await, 401, "no_key");
    assert_eq!(code(&service, Some(&key), "/v1/models").await.0, 200);
    assert!(service.greeting.contains("key required"));
}

#[tokio::test]
async fn tls_with_a_given_certificate() {
    let data = tempfile::tempdir().unwrap();
    let made = rcgen::generate_simple_self_signed(["localhost".to_owned()]).unwrap();
    let (certificate, key) = (data.path().join("cert.pem"), data.path().join("key.pem"));
    std::fs::write(&certificate, made.cert.pem()).unwrap();
    std::fs::write(&key, made.signing_key.serialize_pem()).unwrap();
    let (certificate, key) = (
        certificate.to_str().unwrap().to_owned(),
        key.to_str().unwrap().to_owned(),
    );
    let words = [
        "--demo",
        "--width",
        "2",
        "--listen",
        "127.0.0.1:0",
        "--tls-cert",
        &certificate,
        "--tls-key",
        &key,
    ];
    let mut service = Service::start_in(data, &words);
    service.url = service.url.replace("127.0.0.1", "localhost");
    assert!(service.url.starts_with("https://"));
    let untrusting = service.client(&["ask", "Hello"]);
    assert_eq!(untrusting.status.code(), Some(3), "{}", err(&untrusting));
    assert!(
        err(&untrusting).contains("certificate is not trusted; --ca FILE"),
        "{}",
        err(&untrusting)
    );
    let trusting = service.client(&["ask", "--ca", &certificate, "Hello"]);
    assert!(trusting.status.success(), "{}", err(&trusting));

    // Load goes through the encryption, too: a caller's, and what the service sends to itself by a name that is not its own.
    let load = ["load", "run", "--users", "2", "--count", "6", "--forget", "--json"];
    assert_eq!(service.client(&load).status.code(), Some(3));
    let run = service.client(&[load.as_slice(), &["--ca", &certificate]].concat());
    let summary: Value = serde_json::from_slice(&run.stdout).unwrap_or_else(|_| panic!("{}", err(&run)));
    assert_eq!((&summary["done"], &summary["errors"]), (&json!(6), &json!({})));
    let order = json!({"model": "pierdesk", "arrival": {"kind": "closed", "users": 2}, "span": {"requests": 6},
        "prompts": {"kind": "set", "name": "questions"}});
    assert_eq!(service.post("/manage/load", &order).await.0, 202);
    let ended = loop {
        let status: Value = service.get("/manage/load").await.1;
        if ["ended", "failed"].contains(&status["state"].as_str().unwrap()) {
            break status;
        }
    };
    assert_eq!(
        (&ended["state"], &ended["errors"]),
        (&json!("ended"), &json!(0)),
        "{ended}"
    );

    // A caller who goes away is noticed through the encryption too.
    let mut child = service
        .command()
        .args([
            "ask",
            "--json",
            "--temperature",
            "2",
            "--seed",
            "1",
            "--url",
            &service.url,
            "--ca",
            &certificate,
        ])
        .arg("List all timetables of all piers")
        .stdin(Stdio::null())
        .stdout(Stdio::null())
        .spawn()
        .unwrap();
    let status = || {
        let output = service.client(&["status", "--json", "--ca", &certificate]);
        serde_json::from_slice::<Value>(&output.stdout).unwrap()["endpoints"][0].clone()
    };
    while status()["occupancy"]["lanes_used"] != 1 && child.try_wait().unwrap().is_none() {}
    child.kill().unwrap();
    child.wait().unwrap();
    while status()["occupancy"]["lanes_used"] != 0 {}

    let words = [
        "start",
        "--demo",
        "--listen",
        "127.0.0.1:0",
        "--tls-key",
        &key,
        "--tls-cert",
        &key,
    ];
    let wrong = vastrelay()
        .args(words)
        .arg("--data")
        .arg(service.data.path())
        .output()
        .unwrap();
    assert!(err(&wrong).contains("no certificate"), "{}", err(&wrong));
}

#[tokio::test]
async fn without_a_key_an_endpoint_that_is_not_ready_and_one_that_does_not_exist_look_alike() {
    let service = guarded(&[]);
    let ask = async |path: &str, key: Option<&str>| {
        let request = Client::new().get(format!("{}{path}", service.url));
        let request = match key {
            Some(key) => request.bearer_auth(key),
            None => request,
        };
        let answer = request.send().await.unwrap();
        assert_eq!(answer.headers()["x-content-type-options"], "nosniff");
        (answer.status().as_u16(), answer.text().await.unwrap())
    };
    let key = service.key.clone().unwrap();
    assert_eq!(ask("/health/ready/pierdesk", None).await.0, 200);
    let stop = service
        .post("/manage/endpoints/pierdesk/stop?wait=120s", &json!({"within": 0}))
        .await;
    assert_eq!(stop.0, 200);
    assert_eq!(ask("/health/ready/pierdesk", None).await, (503, String::new()));
    assert_eq!(ask("/health/ready/none", None).await, (503, String::new()));
    let (status, said) = ask("/health/ready/pierdesk", Some(&key)).await;
    assert!(status == 503 && said.contains("stopped"), "{said}");
    assert_eq!(ask("/health/ready/none", Some(&key)).await.0, 404);
    let limited = service.client_json(&["key", "create", "--name", "dock", "--endpoint", "dock"]);
    let limited = limited["key"].as_str().unwrap();
    assert_eq!(ask("/health/ready/pierdesk", Some(limited)).await.0, 404);
}

#[tokio::test]
async fn a_key_with_425_calls_leaves_other_keys_a_place_and_their_turn() {
    let service = Service::demo(&["--width", "2", "--queue-depth", "400"]);
    let key = |name: &str| {
        let made = service.client_json(&["key", "create", "--name", name]);
        made["key"].as_str().unwrap().to_owned()
    };
    let [many, one] = ["many", "one"].map(key);
    let client = Client::new();
    let call = |key: &str, tokens: u32| {
        let length = json!({"min_tokens": tokens, "max_tokens": tokens});
        let call = client.post(format!("{}/v1/chat/completions", service.url));
        call.bearer_auth(key).json(&with(chat("Hello"), length)).send()
    };
    let held = (0..425).map(|_| call(&many, 400));
    let statuses: Vec<_> = held
        .map(|call| tokio::spawn(async { call.await.map(|answer| answer.status()) }))
        .collect();
    service
        .wait_for("as many calls of one key as it may have", |endpoint| {
            endpoint["occupancy"]["queue_depth"] == 350
        })
        .await;
    assert_eq!(call(&many, 4).await.unwrap().status(), StatusCode::TOO_MANY_REQUESTS);
    assert_eq!(call(&one, 4).await.unwrap().status(), StatusCode::OK);
    let waiting = service.endpoint().await["occupancy"]["queue_depth"].as_u64().unwrap();
    assert!(waiting > 300, "its turn came only when {waiting} were left");
    statuses.iter().for_each(|call| call.abort());
}
