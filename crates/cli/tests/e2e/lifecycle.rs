//! Endpoints are deployed, changed, stopped, started and removed while others are served, and a restarted service has those of before.

use crate::deployed::{LOOPBACK, asked, client, refused, small, spec, spec_of, states, succeeded, wait_for_state};
use crate::support::{Service, chat, repository, vastrelay, with};
use futures_util::future::join_all;
use serde_json::{Value, json};
use tempfile::TempDir;

#[tokio::test]
async fn a_restarted_service_has_the_endpoints_of_before() {
    let files = TempDir::new().unwrap();
    let service = Service::start(&[]);
    let said = succeeded(&service, &["endpoint", "deploy", "--demo"]);
    for part in [
        "deployed pierdesk: release 1 on cpu",
        "/v1",
        "vastrelay ask --model pierdesk",
    ] {
        assert!(said.contains(part), "{said}");
    }
    for name in ["desk", "dock"] {
        let file = spec(files.path(), name, &small("[batch]\nwidth = 3 # lanes\n"));
        succeeded(&service, &["endpoint", "deploy", &file]);
    }
    succeeded(&service, &["endpoint", "stop", "dock"]);
    succeeded(&service, &["endpoint", "remove", "pierdesk"]);
    assert_eq!(states(&service), json!({"desk": "ready", "dock": "stopped"}));
    let service = Service::start_in(service.kill(), &LOOPBACK);
    assert_eq!(states(&service), json!({"desk": "ready", "dock": "stopped"}));
    let (status, answer) = service.post("/v1/chat/completions", &asked("desk", json!({}))).await;
    assert_eq!(status, 200, "{answer}");
    let shown = succeeded(&service, &["endpoint", "show", "desk"]);
    for part in [
        "desk is ready",
        "width 3",
        "release 1",
        "served now",
        "width = 3 # lanes",
    ] {
        assert!(shown.contains(part), "{shown}");
    }
    let text = succeeded(&service, &["endpoint", "show", "dock", "--spec"]);
    assert_eq!(text, small("[batch]\nwidth = 3 # lanes\n"));
    succeeded(&service, &["endpoint", "start", "dock"]);
    assert_eq!(states(&service), json!({"desk": "ready", "dock": "ready"}));
    // What is named is served, whatever was kept of it.
    let named = [&LOOPBACK[..], &["--demo"]].concat();
    succeeded(&service, &["endpoint", "stop", "desk"]);
    let service = Service::start_in(service.kill(), &named);
    assert_eq!(
        states(&service),
        json!({"desk": "stopped", "dock": "ready", "pierdesk": "ready"})
    );
}

#[tokio::test]
async fn an_endpoint_that_is_removed_or_stopped_while_the_service_starts_stays_so() {
    let files = TempDir::new().unwrap();
    let service = Service::start(&[]);
    for name in ["desk", "dock"] {
        let file = spec(files.path(), name, &small(""));
        succeeded(&service, &["endpoint", "deploy", &file]);
    }
    let service = Service::start_unready(service.kill(), &[]);
    // As early as the service lets one.
    for words in [["endpoint", "remove", "desk"], ["endpoint", "stop", "dock"]] {
        while !client(&service, &words).0 {
            tokio::task::yield_now().await;
        }
    }
    let service = Service::start_in(service.kill(), &LOOPBACK);
    assert_eq!(states(&service), json!({"dock": "stopped"}));
}

#[tokio::test]
async fn a_model_that_fails_at_the_start_ends_no_service_that_serves_another() {
    let files = TempDir::new().unwrap();
    let service = Service::start(&[]);
    let file = spec(files.path(), "desk", &small(""));
    succeeded(&service, &["endpoint", "deploy", &file]);
    succeeded(&service, &["endpoint", "park", "desk"]);
    let broken = TempDir::new().unwrap();
    std::fs::write(broken.path().join("config.json"), "{}").unwrap();
    let model = format!("bad={}", broken.path().display());
    let named = [&LOOPBACK[..], &["--model", &model]].concat();
    let service = Service::start_in(service.kill(), &named);
    let (status, answer) = service.post("/v1/chat/completions", &asked("desk", json!({}))).await;
    assert_eq!(status, 200, "{answer}");
    assert!(
        service.log().contains("bad"),
        "the log has the failure: {}",
        service.log()
    );
    // Alone it ends the service, as nothing would be served.
    let none = vastrelay()
        .args(["start", "--listen", "127.0.0.1:0", "--model", &model, "--data"])
        .arg(files.path().join("data"))
        .output()
        .unwrap();
    assert_eq!(none.status.code(), Some(1));
}

#[tokio::test]
async fn calls_to_a_stopped_endpoint_are_told_and_running_ones_end_in_time() {
    let service = Service::demo(&[]);
    let long = json!({"max_tokens": 1500, "min_tokens": 1500, "stream": true, "model": "pierdesk"});
    let mut running = service.send("/v1/chat/completions", &asked("pierdesk", long)).await;
    assert_eq!(running.status(), 200);
    running.chunk().await.unwrap();
    succeeded(&service, &["endpoint", "stop", "pierdesk", "--now"]);
    let rest = running.text().await.unwrap();
    assert!(rest.contains("\"error\"") && !rest.contains("[DONE]"), "{rest}");
    let refused_call = service
        .send("/v1/chat/completions", &asked("pierdesk", json!({})))
        .await;
    assert_eq!(refused_call.status(), 503);
    assert!(refused_call.headers().contains_key("retry-after"));
    let refusal: Value = refused_call.json().await.unwrap();
    assert_eq!(refusal["error"]["code"], "endpoint_stopped");
    let (status, health) = service.get("/health/ready/pierdesk").await;
    assert_eq!((status, &health["state"]), (503, &json!("stopped")));
    let (status, health) = service.get("/health/ready").await;
    assert_eq!(
        (status, &health["state"]),
        (200, &json!("ready")),
        "nobody waits for it"
    );
    refused(&service, &["endpoint", "wait", "pierdesk"], &["pierdesk is stopped"]);
    refused(&service, &["endpoint", "renew", "pierdesk"], &["`pierdesk` is stopped"]);
    succeeded(&service, &["endpoint", "start", "pierdesk"]);
    refused(&service, &["endpoint", "start", "pierdesk"], &["nothing to start"]);
    assert_eq!(
        succeeded(&service, &["endpoint", "wait", "pierdesk"]),
        "pierdesk is ready\n"
    );
    // With enough time, what runs comes to its end.
    let finite = asked("pierdesk", json!({"max_tokens": 300, "min_tokens": 300}));
    let (answer, ()) = tokio::join!(service.post("/v1/chat/completions", &finite), async {
        service
            .wait_for("it runs", |endpoint| endpoint["occupancy"]["lanes_used"] == 1)
            .await;
        let stopping = service.client_later(&["endpoint", "stop", "pierdesk"]);
        tokio::task::spawn_blocking(move || assert!(stopping.wait_with_output().unwrap().status.success()))
            .await
            .unwrap();
    });
    assert_eq!((answer.0, &answer.1["usage"]["completion_tokens"]), (200, &json!(300)));
    let stopped = service.client_json(&["event", "list", "--what", "stopped"]);
    assert_eq!(stopped.as_array().unwrap().len(), 2);
}

#[tokio::test]
async fn a_change_takes_over_under_load_and_an_earlier_release_can_be_had_again() {
    let files = TempDir::new().unwrap();
    let service = Service::start(&[]);
    let deploy = |width: usize| {
        let file = spec(files.path(), "desk", &small(&format!("[batch]\nwidth = {width}\n")));
        service.client_later(&["endpoint", "deploy", &file, "--json"])
    };
    assert!(deploy(2).wait().unwrap().success());
    let request = asked(
        "desk",
        json!({"max_tokens": 200, "min_tokens": 200, "temperature": 1, "seed": 3}),
    );
    let (_, alone) = service.post("/v1/chat/completions", &request).await;
    let calls = async {
        let calls = (0..10).map(|_| service.post("/v1/chat/completions", &request));
        futures_util::future::join_all(calls).await
    };
    let change = async {
        service
            .wait_for("calls wait", |endpoint| {
                endpoint["occupancy"]["queue_depth"].as_u64() > Some(2)
            })
            .await;
        let deploying = deploy(4);
        tokio::task::spawn_blocking(move || deploying.wait_with_output().unwrap())
            .await
            .unwrap()
    };
    let (answers, changed) = tokio::join!(calls, change);
    assert!(changed.status.success(), "{}", String::from_utf8_lossy(&changed.stderr));
    let changed: Value = serde_json::from_slice(&changed.stdout).unwrap();
    assert_eq!(
        (&changed["release"], &changed["occupancy"]["lanes"]),
        (&json!(2), &json!(4))
    );
    for (status, answer) in answers {
        assert_eq!(status, 200, "{answer}");
        assert_eq!(answer["choices"], alone["choices"]);
    }
    // The same again is no change.
    let before = service.endpoint().await["replicas"][0]["process"].clone();
    assert!(deploy(4).wait().unwrap().success());
    assert_eq!(service.endpoint().await["replicas"][0]["process"], before);
    let text = small("# as wide as the desk\n[batch]\nwidth = 4\n");
    let file = spec(files.path(), "desk", &text);
    succeeded(&service, &["endpoint", "deploy", &file]);
    assert_eq!(service.endpoint().await["replicas"][0]["process"], before);
    assert_eq!(succeeded(&service, &["endpoint", "show", "desk", "--spec"]), text);
    let back = service.client_json(&["endpoint", "deploy", "desk", "--release", "1"]);
    assert_eq!((&back["release"], &back["occupancy"]["lanes"]), (&json!(3), &json!(2)));
    refused(
        &service,
        &["endpoint", "deploy", "desk", "--release", "9"],
        &["no release 9", "3, 2, 1"],
    );
    refused(
        &service,
        &["endpoint", "deploy", "desk", "--release", "2", "--from-release", "1"],
        &["release 3, not 1", "read it again"],
    );
    while service.workers().len() > 1 {
        tokio::task::yield_now().await;
    }
}

#[tokio::test]
async fn a_change_that_cannot_be_leaves_what_is_served() {
    let files = TempDir::new().unwrap();
    let service = Service::start(&[]);
    let good = spec(files.path(), "desk", &small(""));
    succeeded(&service, &["endpoint", "deploy", &good]);
    let before = service.endpoint().await;
    for (text, parts) in [
        ("model = \"nowhere\"", ["line 1, column 9", "nowhere"]),
        (&*small("[batch]\nbreadth = 3\n"), ["line 3, column 1", "breadth"]),
        (
            &*small("[batch]\ncontext = 4096\n"),
            ["line 3, column 11", "supports 1 to"],
        ),
    ] {
        let file = spec(files.path(), "desk", text);
        refused(&service, &["endpoint", "deploy", &file], &parts);
    }
    let after = service.endpoint().await;
    assert_eq!(after["replicas"][0]["process"], before["replicas"][0]["process"]);
    assert_eq!(succeeded(&service, &["endpoint", "show", "desk", "--spec"]), small(""));
    refused(
        &service,
        &["endpoint", "deploy", "desk"],
        &["`desk` says no model", "desk=PATH", "the file of a spec"],
    );
    refused(&service, &["endpoint", "show", "dock"], &["no endpoint `dock`", "desk"]);
    let service = Service::start_in(service.kill(), &LOOPBACK);
    assert_eq!(states(&service), json!({"desk": "ready"}));
}

#[tokio::test]
async fn a_change_without_room_for_both_needs_a_pause() {
    let files = TempDir::new().unwrap();
    let service = Service::start(&[]);
    let large = |width: usize| {
        let rest = format!(
            "[device]\nprofile = \"sim-48g\"\nsplit = 8\n[precision]\nweights = \"f32\"\n[batch]\nwidth = {width}\ncontext = 2048\n"
        );
        spec(files.path(), "lighthouse", &spec_of("shapes/lighthouse-70b", &rest))
    };
    succeeded(&service, &["endpoint", "deploy", &large(8)]);
    refused(
        &service,
        &["endpoint", "deploy", &large(16)],
        &["no room beside what `lighthouse` holds", "with a pause"],
    );
    assert_eq!(service.endpoint().await["release"], 1);
    let checked = succeeded(&service, &["endpoint", "check", &large(16)]);
    for part in [
        "lighthouse needs a pause",
        "release 1 has to be stopped first",
        "does not fit",
    ] {
        assert!(checked.contains(part), "{checked}");
    }
    let checked = succeeded(&service, &["endpoint", "check", &large(8)]);
    assert!(checked.contains("is served so already, as release 1"), "{checked}");
    succeeded(&service, &["endpoint", "deploy", &large(16), "--with-pause"]);
    let endpoint = service.endpoint().await;
    assert_eq!(
        (&endpoint["state"], &endpoint["occupancy"]["lanes"]),
        (&json!("ready"), &json!(16))
    );
}

#[tokio::test]
async fn what_would_be_served_is_told_and_nothing_is_changed() {
    let files = TempDir::new().unwrap();
    let service = Service::start(&[]);
    let file = spec(files.path(), "desk", &small("[batch]\nwidth = 3\n"));
    let checked = succeeded(&service, &["endpoint", "check", &file]);
    for part in [
        "desk could be served",
        "on cpu",
        "weights",
        "KV pool",
        "keys and values in bf16",
        "3 lanes",
    ] {
        assert!(checked.contains(part), "{checked}");
    }
    assert_eq!(states(&service), json!({}));
    succeeded(&service, &["endpoint", "deploy", &file]);
    let wider = spec(files.path(), "desk", &small("[batch]\nwidth = 5\n"));
    let checked = service.client_json(&["endpoint", "check", &wider]);
    assert_eq!(
        (&checked["served"], &checked["is_change"], &checked["needs_pause"]),
        (&json!(1), &json!(true), &json!(false))
    );
    assert_eq!(checked["planned"]["replicas"][0]["width"], 5);
    let endpoint = service.endpoint().await;
    assert_eq!(
        (&endpoint["release"], &endpoint["occupancy"]["lanes"]),
        (&json!(1), &json!(3))
    );
    let wrong = spec(files.path(), "desk", &small("[batch]\nwidth = 0\n"));
    refused(
        &service,
        &["endpoint", "check", &wrong],
        &["line 3, column 9", "from 1 on"],
    );
}

#[tokio::test]
async fn a_deployment_says_what_changes_how_its_start_went_and_what_somebody_else_has_changed() {
    let files = TempDir::new().unwrap();
    let service = Service::start(&[]);
    let deploy = |width: usize, more: &[&str]| {
        let file = spec(files.path(), "desk", &small(&format!("[batch]\nwidth = {width}\n")));
        client(&service, &[&["endpoint", "deploy", &file], more].concat())
    };
    let (_, said) = deploy(2, &[]);
    for part in [
        "desk could be served",
        "KV pool",
        "ready after",
        "waiting for device",
        "starting worker",
        "verifying files",
        "loading weights",
        "vastrelay ask --model desk",
    ] {
        assert!(said.contains(part), "{said}");
    }
    let (_, said) = deploy(4, &["--from-release", "1"]);
    for part in [
        "take over from release 1",
        "batch.width was 2 and would be 4",
        "earlier starts took",
    ] {
        assert!(said.contains(part), "{said}");
    }
    let (succeeded_too, said) = deploy(8, &["--from-release", "1"]);
    assert!(
        !succeeded_too && said.contains("meanwhile `batch.width` was 2 and is 4"),
        "{said}"
    );
    let detail = service.client_json(&["endpoint", "show", "desk"]);
    let starts = detail["starts"].as_array().unwrap();
    assert_eq!((&starts[0]["release"], &starts[1]["release"]), (&json!(2), &json!(1)));
    for start in starts {
        let phases = start["phases"].as_array().unwrap();
        let sum: f64 = phases.iter().map(|time| time["seconds"].as_f64().unwrap()).sum();
        assert!((start["seconds"].as_f64().unwrap() - sum).abs() < 1e-9, "{start}");
        let built = usize::from(start["release"] == 1);
        assert_eq!((phases.len(), &start["failure"]), (4 + built, &Value::Null));
    }
    succeeded(&service, &["endpoint", "remove", "desk"]);
    deploy(2, &[]);
    let detail = service.client_json(&["endpoint", "show", "desk"]);
    assert_eq!(detail["starts"].as_array().unwrap().len(), 1, "others are forgotten");
}

#[tokio::test]
async fn editors_are_told_what_a_spec_may_say() {
    let printed = vastrelay().args(["endpoint", "schema"]).output().unwrap();
    let schema: Value = serde_json::from_slice(&printed.stdout).unwrap();
    assert_eq!(schema["additionalProperties"], false);
    assert_eq!(schema["required"], json!(["model"]));
    let service = Service::start(&[]);
    assert_eq!(service.get("/spec-schema.json").await, (200, schema));
}

#[tokio::test]
async fn an_endpoint_that_cannot_be_brought_back_is_told_and_leaves_the_others() {
    let files = TempDir::new().unwrap();
    let model = files.path().join("model");
    let demo = repository().join("demo/models/pierdesk-1");
    std::fs::create_dir(&model).unwrap();
    for file in std::fs::read_dir(demo).unwrap() {
        let file = file.unwrap().path();
        std::fs::copy(&file, model.join(file.file_name().unwrap())).unwrap();
    }
    let service = Service::start(&[]);
    succeeded(&service, &["endpoint", "deploy", "--demo"]);
    let file = spec(files.path(), "desk", "model = \"model\"");
    succeeded(&service, &["endpoint", "deploy", &file]);
    let data = service.kill();
    std::fs::rename(&model, files.path().join("elsewhere")).unwrap();
    let service = Service::start_in(data, &LOOPBACK);
    assert_eq!(states(&service), json!({"desk": "failed", "pierdesk": "ready"}));
    let (status, refusal) = service.post("/v1/chat/completions", &asked("desk", json!({}))).await;
    assert_eq!(
        (status, &refusal["error"]["code"]),
        (503, &json!("endpoint_failed")),
        "{refusal}"
    );
    refused(&service, &["endpoint", "wait", "desk"], &["desk is failed"]);
    refused(&service, &["endpoint", "start", "desk"], &["config.json"]);
    std::fs::rename(files.path().join("elsewhere"), &model).unwrap();
    succeeded(&service, &["endpoint", "start", "desk"]);
    assert_eq!(states(&service), json!({"desk": "ready", "pierdesk": "ready"}));
}

#[tokio::test]
async fn a_spec_is_written_to_begin_with_and_can_be_served() {
    let files = TempDir::new().unwrap();
    let service = Service::start(&[]);
    let model = repository().join("demo/models/pierdesk-1").display().to_string();
    for (traffic, goal, part) in [
        ("chat", "latency", "prefill_chunk = 128"),
        ("summarising", "throughput", "width = 32"),
        ("chat", "memory", "idle_after"),
    ] {
        let words = ["endpoint", "new", &model, "--traffic", traffic, "--goal", goal];
        let printed = vastrelay().args(words).output().unwrap();
        let text = String::from_utf8(printed.stdout).unwrap();
        assert!(text.contains(part), "{text}");
        let checked = succeeded(&service, &["endpoint", "check", &spec(files.path(), goal, &text)]);
        for part in [&format!("{goal} could be served"), "typical ones of"] {
            assert!(checked.contains(part), "{checked}");
        }
    }
    let nothing = vastrelay().args(["endpoint", "new", "/nowhere"]).output().unwrap();
    assert!(!nothing.status.success());
}

#[tokio::test]
async fn what_workers_said_last_is_shown_apart_from_what_the_service_did() {
    let files = TempDir::new().unwrap();
    let service = Service::start(&[]);
    succeeded(
        &service,
        &["endpoint", "deploy", &spec(files.path(), "desk", &small(""))],
    );
    assert!(succeeded(&service, &["endpoint", "log", "desk"]).contains("nothing yet"));
    // Whoever loses its model says why.
    let model = TempDir::new().unwrap();
    for file in std::fs::read_dir(repository().join("demo/models/pierdesk-1")).unwrap() {
        let file = file.unwrap().path();
        std::fs::copy(&file, model.path().join(file.file_name().unwrap())).unwrap();
    }
    let text = format!("model = {:?}", model.path().display().to_string());
    succeeded(&service, &["endpoint", "deploy", &spec(files.path(), "dock", &text)]);
    let builds = std::fs::read_dir(service.data.path().join("builds")).unwrap();
    for build in builds {
        std::fs::remove_file(build.unwrap().path().join("build.safetensors")).unwrap();
    }
    assert_eq!(
        service
            .post("/manage/endpoints/dock/renew", &json!({"within": 0.0}))
            .await
            .0,
        202
    );
    let said = async {
        loop {
            let lines = service.client_json(&["endpoint", "log", "dock"]);
            if lines.to_string().contains("cannot be loaded") {
                return lines;
            }
            tokio::task::yield_now().await;
        }
    };
    let lines = tokio::time::timeout(std::time::Duration::from_secs(30), said)
        .await
        .unwrap();
    assert_eq!(
        (&lines[0]["replica"], lines[0]["incarnation"].is_u64()),
        (&json!(1), true)
    );
    // How workers ended stands beside what they said.
    assert!(
        lines.to_string().contains("(the worker ended: the service ended it)"),
        "{lines}"
    );
    assert!(succeeded(&service, &["endpoint", "log", "desk"]).contains("nothing yet"));
    refused(&service, &["endpoint", "log", "pier"], &["no endpoint `pier`"]);
}

#[tokio::test]
async fn an_address_is_told_when_an_endpoint_is_ready_or_has_failed() {
    use std::io::{BufRead, BufReader, Read, Write};
    let files = TempDir::new().unwrap();
    let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let (sender, mut told) = tokio::sync::mpsc::unbounded_channel::<Value>();
    let address = listener.local_addr().unwrap();
    std::thread::spawn(move || {
        // The first answer is a failure, the second leads elsewhere: each is told again, and nobody goes there.
        let answers = [
            "500 Oh",
            "302 Found\r\nlocation: http://127.0.0.1:1/",
            "204 Well",
            "204 Well",
            "204 Well",
        ];
        for answer in answers {
            let (mut stream, _) = listener.accept().unwrap();
            let mut reader = BufReader::new(stream.try_clone().unwrap());
            let (mut line, mut length) = (String::new(), 0);
            while reader.read_line(&mut line).unwrap() > 2 {
                if let Some(value) = line.to_lowercase().strip_prefix("content-length:") {
                    length = value.trim().parse().unwrap();
                }
                line.clear();
            }
            let mut body = vec![0; length];
            reader.read_exact(&mut body).unwrap();
            write!(
                stream,
                "HTTP/1.1 {answer}\r\ncontent-length: 0\r\nconnection: close\r\n\r\n"
            )
            .unwrap();
            sender.send(serde_json::from_slice(&body).unwrap()).unwrap();
        }
    });
    let service = Service::start(&["--tell", &format!("http://{address}/hook?secret=s3cret")]);
    let model = files.path().join("model");
    std::os::unix::fs::symlink(repository().join("demo/models/pierdesk-1"), &model).unwrap();
    let text = "model = \"model\"";
    succeeded(&service, &["endpoint", "deploy", &spec(files.path(), "desk", text)]);
    for _ in 0..3 {
        let ready = told.recv().await.unwrap();
        assert_eq!(
            (&ready["endpoint"], &ready["state"], &ready["release"]),
            (&json!("desk"), &json!("ready"), &json!(1))
        );
    }
    succeeded(&service, &["endpoint", "park", "desk"]);
    std::fs::remove_file(&model).unwrap();
    assert_eq!(
        service.post("/v1/chat/completions", &asked("desk", json!({}))).await.0,
        503
    );
    let failed = told.recv().await.unwrap();
    assert_eq!(failed["state"], "failed");
    assert!(failed["why"].as_str().unwrap().contains("model"), "{failed}");
    std::os::unix::fs::symlink(repository().join("demo/models/pierdesk-1"), &model).unwrap();
    let slow = spec(files.path(), "dock", &small("limits.start = \"1ms\""));
    assert!(!client(&service, &["endpoint", "deploy", &slow]).0);
    let failed = told.recv().await.unwrap();
    assert_eq!(
        (&failed["endpoint"], &failed["deployment"], &failed["state"]),
        (&json!("dock"), &json!("failed"), &Value::Null)
    );
    assert!(failed["why"].as_str().unwrap().contains("not ready after"), "{failed}");
    assert!(!service.log().contains("s3cret"));
}

#[tokio::test]
async fn what_had_no_room_is_brought_back_as_soon_as_there_is_some() {
    let files = TempDir::new().unwrap();
    let part = files.path().join("part.toml");
    let with_memory = |mib: u64| {
        std::fs::write(&part, format!("name = \"cpu\"\nmemory = \"{mib} MiB\"\n")).unwrap();
        part.display().to_string()
    };
    let service = Service::start(&["--device", &with_memory(1024)]);
    for name in ["desk", "dock"] {
        let file = spec(files.path(), name, &small("[memory]\nshare = 1.0\npages = 512\n"));
        succeeded(&service, &["endpoint", "deploy", &file]);
    }
    let status = service.client_json(&["status"]);
    let reserved = status["endpoints"][0]["replicas"][0]["memory"]["reserved"]
        .as_u64()
        .unwrap();
    // The next service has room for one of them.
    let data = service.kill();
    let words = [
        "--listen",
        "127.0.0.1:0",
        "--device",
        &with_memory((reserved >> 20) + 4),
    ];
    let service = Service::start_in(data, &words);
    assert_eq!(states(&service), json!({"desk": "ready", "dock": "failed"}));
    let shown = succeeded(&service, &["endpoint", "show", "dock"]);
    for part in ["does not fit", "`desk`", "it is tried again by itself"] {
        assert!(shown.contains(part), "{shown}");
    }
    succeeded(&service, &["endpoint", "stop", "desk"]);
    wait_for_state(&service, "dock", "ready").await;
    let events = service.client_json(&["event", "list", "--what", "started"]);
    assert_eq!(
        (&events[0]["endpoint"], &events[0]["who"]),
        (&json!("dock"), &json!("service"))
    );
}

#[tokio::test]
async fn a_path_that_is_empty_is_refused_by_name() {
    let service = Service::start(&[]);
    for address in ["/manage/check", "/manage/endpoints"] {
        let (status, refusal) = service.post(address, &json!({"name": "desk", "path": ""})).await;
        assert_eq!((status, &refusal["error"]["param"]), (400, &json!("path")), "{refusal}");
    }
}

#[tokio::test]
async fn a_call_that_a_stop_ends_is_told_so_and_a_failed_start_gives_its_reason() {
    let service = Service::demo(&["--width", "1"]);
    let endless = with(chat("Hello"), json!({"min_tokens": 1500, "max_tokens": 1500}));
    let running = service.send("/v1/chat/completions", &endless);
    let stopping = async {
        service
            .wait_for("a call runs", |endpoint| endpoint["occupancy"]["lanes_used"] == 1)
            .await;
        service
            .post("/manage/endpoints/pierdesk/stop?wait=120s", &json!({"within": 0}))
            .await
    };
    let (answer, stopped) = tokio::join!(running, stopping);
    assert_eq!(stopped.0, 200);
    let status = answer.status().as_u16();
    let answer: Value = answer.json().await.unwrap();
    assert_eq!(
        (status, &answer["error"]["code"]),
        (503, &json!("endpoint_stopped")),
        "{answer}"
    );
    std::fs::rename(
        service.data.path().join("models/pierdesk@1"),
        service.data.path().join("models/away"),
    )
    .unwrap();
    let (status, answer) = service
        .post("/manage/endpoints/pierdesk/start?wait=120s", &json!({}))
        .await;
    assert_eq!(
        (status, &answer["error"]["code"]),
        (503, &json!("endpoint_failed")),
        "{answer}"
    );
    let message = answer["error"]["message"].as_str().unwrap();
    assert!(
        message.contains("pierdesk@1") && !message.contains("line 1"),
        "{message}"
    );
}

#[tokio::test]
async fn a_build_whose_tensors_are_gone_or_cut_short_is_made_again() {
    let service = Service::demo(&[]);
    let builds = || {
        std::fs::read_dir(service.data.path().join("builds"))
            .unwrap()
            .next()
            .unwrap()
            .unwrap()
            .path()
    };
    for damage in ["gone", "short"] {
        assert_eq!(
            service
                .post("/manage/endpoints/pierdesk/stop?wait=120s", &json!({"within": 0}))
                .await
                .0,
            200
        );
        let tensors = builds().join("build.safetensors");
        match damage {
            "gone" => std::fs::remove_file(&tensors).unwrap(),
            _ => std::fs::File::options()
                .write(true)
                .open(&tensors)
                .unwrap()
                .set_len(4_096)
                .unwrap(),
        }
        let (status, answer) = service
            .post("/manage/endpoints/pierdesk/start?wait=120s", &json!({}))
            .await;
        assert_eq!(status, 201, "{damage}: {answer}");
        assert!(service.ask("Hello").await.contains("passenger desk"));
    }
}

#[tokio::test]
async fn calls_that_run_or_wait_when_the_service_ends_are_told_so_and_recorded() {
    let service = Service::demo(&["--width", "1"]);
    let endless = with(chat("Hello"), json!({"min_tokens": 1900, "max_tokens": 1900}));
    let calls = ["runs", "waits"].map(|name| service.send_named("/v1/chat/completions", &endless, name));
    let ending = async {
        service
            .wait_for("one runs and one waits", |endpoint| {
                endpoint["occupancy"]["lanes_used"] == 1 && endpoint["occupancy"]["queue_depth"] == 1
            })
            .await;
        service.signal("TERM");
        while !service.log().contains("draining") {
            tokio::task::yield_now().await;
        }
        // It does not wait for the calls any longer.
        service.signal("TERM");
    };
    let (answers, ()) = tokio::join!(join_all(calls), ending);
    for answer in answers {
        let status = answer.status().as_u16();
        let answer: Value = answer.json().await.unwrap();
        assert_eq!(status, 503, "{answer}");
        assert_eq!(answer["error"]["code"], "endpoint_stopped", "{answer}");
    }
    let next = Service::start_in(service.ended(), &["--demo", "--listen", "127.0.0.1:0"]);
    for name in ["runs", "waits"] {
        let (status, kept) = next.get(&format!("/manage/requests/{name}")).await;
        assert_eq!((status, &kept["call"]["status"]), (200, &json!(503)), "{kept}");
    }
}
