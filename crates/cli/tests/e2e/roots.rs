//! Callers over the network name files beneath a root only; the content of other files never comes out.

use crate::support::{Service, chat, repository, with};
use reqwest::{Client, Method};
use serde_json::{Value, json};
use std::os::unix::fs::symlink;
use std::path::{Path, PathBuf};
use tempfile::TempDir;

const SECRET: &str = "rudder-secret = \"xyzzy\"";

/// A service with a root, a key that may manage it, and a secret file outside the root.
struct Harbour {
    service: Service,
    key: String,
    root: PathBuf,
    elsewhere: TempDir,
    _files: TempDir,
}

impl Harbour {
    fn start() -> Harbour {
        let (files, elsewhere) = (TempDir::new().unwrap(), TempDir::new().unwrap());
        let root = files.path().canonicalize().unwrap();
        let model = root.join("desk");
        std::fs::create_dir(&model).unwrap();
        for file in std::fs::read_dir(repository().join("demo/models/pierdesk-1")).unwrap() {
            let file = file.unwrap();
            std::fs::copy(file.path(), model.join(file.file_name())).unwrap();
        }
        std::fs::write(elsewhere.path().join("secret.toml"), SECRET).unwrap();
        let service = Service::demo(&["--root", root.to_str().unwrap()]);
        let made = service.client_json(&["key", "create", "--name", "ops", "--scope", "manage"]);
        Harbour {
            key: made["key"].as_str().unwrap().to_owned(),
            service,
            root,
            elsewhere,
            _files: files,
        }
    }

    fn secret(&self) -> PathBuf {
        self.elsewhere.path().join("secret.toml")
    }

    /// Calls over TCP with the key.
    async fn call(&self, method: Method, path: &str, body: &Value) -> (u16, String) {
        let request = Client::new().request(method, format!("{}{path}", self.service.url));
        let answer = request.bearer_auth(&self.key).json(body).send().await.unwrap();
        (answer.status().as_u16(), answer.text().await.unwrap())
    }

    async fn deploy(&self, name: &str, spec: &str, beside: &Path) -> (u16, String) {
        let body = json!({"name": name, "spec": spec, "beside": beside});
        self.call(Method::POST, "/manage/endpoints?wait=120s", &body).await
    }
}

#[tokio::test]
async fn a_caller_over_the_network_reads_no_file_outside_the_roots_in_any_way() {
    let harbour = Harbour::start();
    let secret = harbour.secret();
    let desk = harbour.root.join("desk");
    symlink(&secret, desk.join("link.jinja")).unwrap();
    symlink(harbour.elsewhere.path(), harbour.root.join("out")).unwrap();
    let model = format!("model = {:?}\n", desk.display().to_string());
    let template = |path: &Path| format!("{model}template = {:?}\n", path.display().to_string());
    let specs = [
        template(&secret),
        template(&desk.join("link.jinja")),
        template(&harbour.root.join("out/secret.toml")),
        template(&harbour.root.join("desk/../../../../../../etc/hostname")),
        template(&harbour.service.data.path().join("workers/worker.secret")),
        template(&harbour.service.data.path().join("models/../vastrelay.sqlite")),
        format!("{model}[device]\nprofile = {:?}\n", secret.display().to_string()),
        format!("model = {:?}\n", harbour.elsewhere.path().display().to_string()),
    ];
    for spec in &specs {
        for path in ["/manage/endpoints", "/manage/check"] {
            let body = json!({"name": "peek", "spec": spec, "beside": "/"});
            let (status, answer) = harbour.call(Method::POST, path, &body).await;
            assert_eq!(status, 400, "{path} {spec}: {answer}");
            assert!(!answer.contains("rudder") && !answer.contains("xyzzy"), "{answer}");
        }
    }
    let (status, answer) = harbour.deploy("peek", &specs[0], Path::new("/")).await;
    let root = format!("--root {}", harbour.elsewhere.path().display());
    assert!(
        status == 400 && answer.contains(&root),
        "the refusal names what is missing: {answer}"
    );
    let (status, answer) = harbour.deploy("peek", "model = \"shapes/x\"", &secret).await;
    assert_eq!(status, 400, "`beside` leads nowhere else: {answer}");
    for path in [secret.display().to_string(), "/etc".into()] {
        let (status, answer) = harbour
            .call(Method::GET, &format!("/manage/fit?model={path}"), &json!({}))
            .await;
        assert!(
            status == 400 && answer.contains("--root") && !answer.contains("rudder"),
            "{answer}"
        );
    }
    // There is no telling whether a file exists.
    let said = |answer: String, path: &str| answer.replace(path, "PATH");
    let there = harbour.deploy("peek", &template(&secret), Path::new("/")).await.1;
    let absent = harbour
        .deploy("peek", &template(Path::new("/no/such.toml")), Path::new("/"))
        .await
        .1;
    let folder = secret.parent().unwrap().display().to_string();
    assert_eq!(
        said(said(there, &secret.display().to_string()), &folder),
        said(said(absent, "/no/such.toml"), "/no"),
    );
}

#[tokio::test]
async fn what_lies_in_a_root_is_deployed_built_and_answers_and_the_roots_are_listed() {
    let harbour = Harbour::start();
    let (status, answer) = harbour.deploy("desk", "model = \"desk\"", &harbour.root).await;
    assert_eq!(status, 201, "{answer}");
    let request = with(
        chat("When is the last boat back on Sunday?"),
        json!({"model": "desk", "temperature": 0}),
    );
    let (_, answer) = harbour.service.post("/v1/chat/completions", &request).await;
    let text = answer["choices"][0]["message"]["content"].as_str().unwrap();
    assert!(text.contains("18:00"), "{answer}");
    let (_, listed) = harbour.call(Method::GET, "/manage/roots", &json!({})).await;
    let models = harbour.service.data.path().canonicalize().unwrap().join("models");
    let listed: Vec<PathBuf> = serde_json::from_str(&listed).unwrap();
    assert_eq!(listed, [models, harbour.root.clone(), repository().join("demo")]);
    // Simulated devices read the model's own folder, and their workers do.
    let spec = "model = \"desk\"\n[device]\nprofile = \"sim-24g\"\n";
    assert_eq!(harbour.deploy("far", spec, &harbour.root).await.0, 201);
    let far = with(chat("Hello"), json!({"model": "far"}));
    assert_eq!(harbour.service.post("/v1/chat/completions", &far).await.0, 200);
    // A worker that is started again finds its files as the first one did.
    harbour.service.kill_worker();
    assert_eq!(harbour.service.post("/v1/chat/completions", &far).await.0, 200);
    assert_eq!(harbour.service.post("/v1/chat/completions", &request).await.0, 200);
}

#[tokio::test]
async fn a_change_over_the_network_keeps_the_operators_paths_and_alters_none() {
    let harbour = Harbour::start();
    let mine = harbour.elsewhere.path().join("mine");
    std::fs::rename(harbour.root.join("desk"), &mine).unwrap();
    std::fs::write(
        harbour.elsewhere.path().join("plain.jinja"),
        "{{ messages[0].content }}",
    )
    .unwrap();
    let spec = |template: &str, width: usize| {
        format!("model = \"mine\"\ntemplate = \"{template}\"\n[batch]\nwidth = {width}\n")
    };
    let file = harbour.elsewhere.path().join("desk.toml");
    std::fs::write(&file, spec("plain.jinja", 4)).unwrap();
    let deployed = harbour.service.client(&["endpoint", "deploy", file.to_str().unwrap()]);
    assert!(
        deployed.status.success(),
        "{}",
        String::from_utf8_lossy(&deployed.stderr)
    );
    let beside = harbour.elsewhere.path();
    assert_eq!(harbour.deploy("desk", &spec("plain.jinja", 5), beside).await.0, 201);
    assert_eq!(
        harbour.deploy("desk", &spec("plain.jinja", 6), beside).await.0,
        201,
        "they are kept once more"
    );
    let (status, answer) = harbour.deploy("desk", &spec("secret.toml", 6), beside).await;
    assert!(status == 400 && answer.contains("--root"), "{answer}");
    let (status, _) = harbour.deploy("other", &spec("plain.jinja", 6), beside).await;
    assert_eq!(status, 400, "they belong to that endpoint");
    let earlier = json!({"name": "desk", "release": 1});
    assert_eq!(
        harbour
            .call(Method::POST, "/manage/endpoints?wait=120s", &earlier)
            .await
            .0,
        201
    );
    // The next service still knows.
    let data = harbour.service.kill();
    let service = Service::start_in(data, &["--listen", "127.0.0.1:0"]);
    assert_eq!(
        service
            .post("/v1/chat/completions", &with(chat("Hi"), json!({"model": "desk"})))
            .await
            .0,
        200
    );
}

#[test]
fn a_root_that_contains_the_services_data_is_refused() {
    let data = TempDir::new().unwrap();
    for root in ["/", data.path().to_str().unwrap(), "/no/such/folder"] {
        let output = crate::support::vastrelay()
            .args(["start", "--listen", "127.0.0.1:0", "--root", root, "--data"])
            .arg(data.path())
            .env("XDG_RUNTIME_DIR", data.path())
            .output()
            .unwrap();
        let said = String::from_utf8_lossy(&output.stderr);
        assert!(
            output.status.code() == Some(1) && said.contains("--root") && !said.contains("os error"),
            "{said}"
        );
    }
}

#[test]
fn a_profile_that_cannot_be_read_is_described_by_its_place_and_not_by_its_content() {
    let folder = TempDir::new().unwrap();
    let file = folder.path().join("other.toml");
    std::fs::write(&file, format!("name = \"a\"\n{SECRET}\n")).unwrap();
    let output = crate::support::vastrelay()
        .args(["fit", "--device", file.to_str().unwrap()])
        .arg(repository().join("demo/models/pierdesk-1"))
        .output()
        .unwrap();
    let said = String::from_utf8_lossy(&output.stderr);
    assert!(
        said.contains("line ") && !said.contains("rudder") && !said.contains("xyzzy"),
        "{said}"
    );
}
