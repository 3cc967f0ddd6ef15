//! Wrong inputs: each gets one line that names the cause and the next step, with the right exit code and in no library's words.

use crate::support::{Service, chat, repository, with};
use serde_json::{Value, json};
use std::path::Path;
use std::process::Output;

/// Words of libraries, which messages must not repeat.
const OF_LIBRARIES: [&str; 12] = [
    "os error",
    "invalid socket address",
    "InvalidContentType",
    "expected number at",
    "unknown field",
    "missing field",
    "unknown variant",
    "invalid digit",
    "invalid type",
    "panicked",
    "No such file",
    "stack backtrace",
];

fn said(output: &Output) -> String {
    String::from_utf8_lossy(&output.stderr).into_owned()
}

fn in_no_library_words(text: &str, of: &str) {
    for word in OF_LIBRARIES {
        assert!(!text.contains(word), "{of}: `{word}` in {text}");
    }
}

/// Runs a command against a service; returns what is wrong with how it ends, where anything is.
fn fault(service: &Service, words: &[&str], code: i32, needles: &[&str]) -> Option<String> {
    let output = service
        .command()
        .env("VASTRELAY_URL", &service.url)
        .args(words)
        .output()
        .unwrap();
    let text = format!("{}{}", said(&output), String::from_utf8_lossy(&output.stdout));
    let errors = said(&output).lines().filter(|line| line.starts_with("error: ")).count();
    let wrong = if output.status.code() != Some(code) {
        format!("code {:?}", output.status.code())
    } else if let Some(missing) = needles.iter().find(|needle| !text.contains(**needle)) {
        format!("without `{missing}`")
    } else if let Some(word) = OF_LIBRARIES.iter().find(|word| text.contains(**word)) {
        format!("with `{word}`")
    } else if code != 0 && errors != 1 {
        format!("{errors} errors")
    } else {
        return None;
    };
    Some(format!("{words:?}: {wrong}: {text}"))
}

fn write(folder: &Path, name: &str, text: &str) -> String {
    let path = folder.join(name);
    std::fs::create_dir_all(path.parent().unwrap()).unwrap();
    std::fs::write(&path, text).unwrap();
    path.display().to_string()
}

#[tokio::test]
async fn commands_name_the_cause_and_the_next_step() {
    let service = Service::demo(&[]);
    let folder = tempfile::tempdir().unwrap();
    let model = repository().join("demo/models/pierdesk-1");
    let model = model.display().to_string();
    let spec = |name: &str, text: &str| write(folder.path(), &format!("{name}.toml"), text);
    let misspelt = spec("misspelt", &format!("model = \"{model}\"\n[batch]\nwitdh = 4\n"));
    let without = spec("without", "mode = \"chat\"\n");
    let quoted = spec("quoted", &format!("model = \"{model}\"\n[batch]\nwidth = \"4\"\n"));
    let typical = spec(
        "typical",
        &format!("model = \"{model}\"\n[batch]\ncontext = 512\ntypical = \"600+200\"\n"),
    );
    let pickle = write(folder.path(), "weights.bin", "x");
    let part = write(folder.path(), "model.safetensors", "x");
    let config = write(folder.path(), "shape/config.json", "{}");
    let adapter = write(folder.path(), "adapter/adapter_config.json", "{}");
    let adapter = Path::new(&adapter).parent().unwrap().display().to_string();
    let missing = folder.path().join("missing").display().to_string();
    let at = |path: &str| format!("desk={path}");
    let (at_missing, at_pickle, at_part, at_config) = (at(&missing), at(&pickle), at(&part), at(&config));
    let (at_adapter, at_gguf) = (at(&adapter), at(&format!("{missing}.gguf")));
    let cases: [(&[&str], i32, &[&str]); 34] = [
        // Commands that are nearly right.
        (&["events", "list"], 2, &["vastrelay event list"]),
        (&["requests", "show", "last"], 2, &["vastrelay request show last"]),
        (&["endpoints", "list"], 2, &["vastrelay endpoint list"]),
        (&["endpoint", "logs", "pierdesk"], 0, &[]),
        (
            &["endpoint", "deploy", "pierdesk"],
            2,
            &["pierdesk=PATH", "vastrelay endpoint start pierdesk"],
        ),
        (
            &["endpoint", "deploy", &missing],
            2,
            &["there is no file or folder", "NAME=PATH"],
        ),
        (&["endpoint", "check", &model], 0, &["called `pierdesk-1`"]),
        (&["load", "run", "--rate", "3"], 2, &["--rate", "--arrival poisson"]),
        (&["load", "run", "--each", "3"], 2, &["--each", "--arrival steps"]),
        (&["load", "run", "--duration", "soon"], 2, &["30s, 5m, 2h"]),
        (
            &["load", "run", "--prompts", &missing],
            2,
            &["questions, follow-ups", "no such file"],
        ),
        (&["endpoint", "wait", "pierdesk", "--within", "10"], 0, &[]),
        (&["request", "list", "--outcome", "queue-wait"], 0, &[]),
        (
            &["request", "list", "--outcome", "queue_ful"],
            1,
            &["no outcome", "queue_full"],
        ),
        // Models that are none.
        (
            &["endpoint", "deploy", &at_missing],
            1,
            &["no such file or folder", "config.json"],
        ),
        (&["endpoint", "deploy", &at_gguf], 1, &["no such GGUF file"]),
        (&["endpoint", "deploy", &at_pickle], 1, &["pickle", "safetensors"]),
        (&["endpoint", "deploy", &at_part], 1, &["name its folder"]),
        (&["endpoint", "deploy", &at_config], 1, &["without weights", "fit"]),
        (&["endpoint", "deploy", &at_adapter], 1, &["adapter", "merge"]),
        (
            &["model", "inspect", "https://models.example/a"],
            1,
            &["is an address", "download"],
        ),
        (&["model", "inspect", "isles/harbour-8b"], 1, &["no registry is asked"]),
        (
            &["model", "inspect", &model, "--context", "9999999"],
            2,
            &["--context", "supports 1 to 2048"],
        ),
        (
            &["fit", &model, "--typical", "9000+9000"],
            2,
            &["--typical", "context of 2048"],
        ),
        // Specs.
        (
            &["endpoint", "check", &misspelt],
            1,
            &["line 3", "did you mean `width`"],
        ),
        (&["endpoint", "check", &without], 1, &["`model` is missing"]),
        (&["endpoint", "check", &quoted], 1, &["line 3", "a whole number"]),
        (&["endpoint", "check", &typical], 1, &["line 4", "600 + 200", "512"]),
        // Changes that were made already, or are impossible.
        (
            &["key", "create", "--name", "desk", "--endpoint", "nope"],
            0,
            &["no endpoint `nope`", "pierdesk"],
        ),
        (
            &["key", "create", "--name", "desk"],
            1,
            &["a key `desk` already", "vastrelay key revoke"],
        ),
        (
            &["key", "revoke", "0badc0de"],
            1,
            &["there is no key", "vastrelay key list"],
        ),
        (&["endpoint", "start", "pierdesk"], 1, &["pierdesk"]),
        (&["endpoint", "deploy", "--demo"], 0, &["nothing changed"]),
        (&["job", "show", "99999"], 1, &["no job 99999", "vastrelay job list"]),
    ];
    let mut faults = Vec::new();
    for (words, code, needles) in cases {
        faults.extend(fault(&service, words, code, needles));
    }
    // Commands that are given twice.
    faults.extend(fault(
        &service,
        &["endpoint", "stop", "pierdesk"],
        0,
        &["vastrelay endpoint start pierdesk"],
    ));
    faults.extend(fault(
        &service,
        &["endpoint", "stop", "pierdesk"],
        0,
        &["stopped already", "stopped it at"],
    ));
    faults.extend(fault(
        &service,
        &["ask", "--model", "pierdesk", "Hello"],
        1,
        &["vastrelay endpoint start pierdesk"],
    ));
    faults.extend(fault(
        &service,
        &["endpoint", "start", "pierdesk"],
        0,
        &["started pierdesk"],
    ));
    let keys = service.client_json(&["key", "list"]);
    let id = keys[0]["id"].as_str().unwrap();
    faults.extend(fault(&service, &["key", "revoke", id], 0, &["revoked key `desk`"]));
    faults.extend(fault(&service, &["key", "revoke", id], 0, &["was revoked already"]));
    faults.extend(fault(
        &service,
        &["key", "create", "--name", "desk"],
        0,
        &["shown only once"],
    ));
    assert!(faults.is_empty(), "{}", faults.join("\n"));
}

#[test]
fn addresses_are_understood_or_explained() {
    let service = Service::demo(&[]);
    let run = |url: &str, words: &[&str]| {
        let words = [words, &["--url", url]].concat();
        service.command().args(words).output().unwrap()
    };
    let whole = format!("{}/v1/chat/completions", service.url);
    let output = run(&whole, &["ask", "Hello"]);
    assert!(output.status.success(), "{}", said(&output));
    let bare = service.url.trim_start_matches("http://");
    assert!(run(bare, &["status"]).status.success());
    let output = run(&service.url.replace("http://", "https://"), &["ask", "Hello"]);
    assert_eq!(output.status.code(), Some(3));
    assert!(
        said(&output).contains("write http:// in place of https://"),
        "{}",
        said(&output)
    );
    in_no_library_words(&said(&output), "https");
    // A usage line lists no option that the environment has set.
    let output = service
        .command()
        .env("VASTRELAY_URL", &service.url)
        .args(["request", "show"])
        .output();
    let output = output.unwrap();
    assert!(
        output.status.code() == Some(2) && !said(&output).contains("--url"),
        "{}",
        said(&output)
    );
    for (listen, needle) in [("nowhere", "127.0.0.1:7411"), ("127.0.0.1:99999", "127.0.0.1:7411")] {
        let output = service.command().args(["start", "--listen", listen]).output().unwrap();
        assert_eq!(output.status.code(), Some(2), "{}", said(&output));
        assert!(said(&output).contains(needle), "{}", said(&output));
        in_no_library_words(&said(&output), listen);
    }
}

#[tokio::test]
async fn calls_name_the_cause_and_the_next_step() {
    let service = Service::demo(&[]);
    let message = |answer: &Value| answer["error"]["message"].as_str().unwrap_or_default().to_owned();
    for (path, needle) in [
        ("/v1/chat/completion", "POST /v1/chat/completions"),
        ("/v1/chat/completoins", "POST /v1/chat/completions"),
        ("/v1/v1/chat/completions", "POST /v1/chat/completions"),
        ("/v1/model", "GET /v1/models"),
    ] {
        let (status, answer) = service.post(path, &chat("Hello")).await;
        assert_eq!(status, 404, "{path}: {answer}");
        assert!(message(&answer).contains(needle), "{path}: {answer}");
    }
    let (status, answer) = service.post("/health", &json!({})).await;
    assert_eq!(status, 404);
    assert!(message(&answer).contains("/health/ready"), "{answer}");
    let messages = json!([{"role": "user", "content": "Hello"}]);
    for (path, body, needles) in [
        (
            "/v1/chat/completions",
            json!({"messages": messages}),
            ["`model` is missing", "pierdesk"],
        ),
        (
            "/v1/completions",
            json!({"prompt": "A"}),
            ["`model` is missing", "pierdesk"],
        ),
        (
            "/v1/chat/completions",
            json!({"model": "pierdesk", "prompt": "A"}),
            ["/v1/completions", "messages"],
        ),
        (
            "/v1/completions",
            json!({"model": "pierdesk", "messages": messages}),
            ["/v1/chat/completions", "prompt"],
        ),
        (
            "/v1/chat/completions",
            json!({"model": "pierdesk"}),
            ["`messages` is missing", "role"],
        ),
        (
            "/v1/chat/completions",
            with(chat("Hello"), json!({"response_format": {"type": "json"}})),
            ["`response_format`", "\"text\""],
        ),
        (
            "/v1/chat/completions",
            with(chat("Hello"), json!({"response_format": "text"})),
            ["`response_format`", "\"text\""],
        ),
    ] {
        let (status, answer) = service.post(path, &body).await;
        assert_eq!(status, 400, "{body}: {answer}");
        for needle in needles {
            assert!(message(&answer).contains(needle), "{body}: `{needle}` in {answer}");
        }
        in_no_library_words(&message(&answer), &body.to_string());
    }
    // A refused call is shown with its reason.
    let shown = service.client(&["request", "show", "last"]);
    let shown = String::from_utf8_lossy(&shown.stdout).into_owned();
    assert!(shown.contains("error ") && shown.contains("response_format"), "{shown}");
}
