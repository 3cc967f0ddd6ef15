//! Managing needs the operator's socket, a key of scope `manage`, or a session of the console.

use crate::support::{Service, guarded};
use reqwest::{Client, Method, RequestBuilder, StatusCode};
use rustix::process::Uid;
use serde_json::{Value, json};
use std::fs::Permissions;
use std::io::{Read, Write};
use std::os::unix::fs::PermissionsExt;
use std::os::unix::net::UnixStream;

/// A session of the console, as a browser holds it.
struct Session {
    url: String,
    cookie: String,
    token: String,
}

impl Session {
    /// Begins one with a code.
    async fn begin(service: &Service) -> Session {
        let link = service.client_json(&["console"])["url"].as_str().unwrap().to_owned();
        let (_, code) = link.split_once("/console#code=").unwrap();
        let answer = exchange(service, code).await;
        assert_eq!(answer.status(), StatusCode::CREATED);
        let cookie = answer.headers()["set-cookie"].to_str().unwrap().to_owned();
        for part in ["HttpOnly", "SameSite=Strict", "Path=/"] {
            assert!(cookie.contains(part), "{cookie}");
        }
        let port = service.url.rsplit(':').next().unwrap();
        assert!(cookie.starts_with(&format!("vastrelay-session-{port}=")), "{cookie}");
        let begun: Value = answer.json().await.unwrap();
        Session {
            url: service.url.clone(),
            cookie: cookie.split(';').next().unwrap().to_owned(),
            token: begun["token"].as_str().unwrap().to_owned(),
        }
    }

    /// Begins a call with both halves, as the console's own page makes it.
    fn call(&self, method: Method, path: &str) -> RequestBuilder {
        let request = Client::new().request(method, format!("{}{path}", self.url));
        request
            .header("cookie", &self.cookie)
            .header("x-vastrelay-session", &self.token)
    }

    async fn status(&self, method: Method, path: &str, header: (&str, &str)) -> u16 {
        let request = self.call(method, path).header(header.0, header.1);
        request.send().await.unwrap().status().as_u16()
    }
}

async fn exchange(service: &Service, code: &str) -> reqwest::Response {
    let request = Client::new().post(format!("{}/session", service.url));
    request.json(&json!({"code": code})).send().await.unwrap()
}

async fn bare(service: &Service, method: Method, path: &str) -> (u16, Value) {
    let answer = Client::new()
        .request(method, format!("{}{path}", service.url))
        .send()
        .await
        .unwrap();
    (answer.status().as_u16(), answer.json().await.unwrap_or_default())
}

#[tokio::test]
async fn over_tcp_nobody_manages_without_a_key_or_session_also_on_loopback() {
    let service = Service::demo(&[]);
    let (status, answer) = bare(&service, Method::GET, "/manage/status").await;
    let message = answer["error"]["message"].as_str().unwrap();
    assert_eq!(status, 401);
    assert!(
        message.contains("scope `manage`") && message.contains("vastrelay console"),
        "{message}"
    );
    for (method, path) in [
        (Method::POST, "/manage/endpoints/pierdesk/stop"),
        (Method::DELETE, "/manage/endpoints/pierdesk"),
        (Method::POST, "/manage/console"),
        (Method::GET, "/manage/live"),
    ] {
        assert_eq!(bare(&service, method, path).await.0, 401, "{path}");
    }
    assert_eq!(
        bare(&service, Method::GET, "/v1/models").await.0,
        200,
        "calling stays free on loopback"
    );
    // The commands of the service's user need no key.
    assert_eq!(service.client_json(&["status"])["endpoints"][0]["name"], "pierdesk");
    let key = service.client_json(&["key", "create", "--name", "ops", "--scope", "manage"]);
    let request = Client::new().get(format!("{}/manage/status", service.url));
    let answer = request.bearer_auth(key["key"].as_str().unwrap()).send().await.unwrap();
    assert_eq!(answer.status(), 200);
    assert!(service.client(&["endpoint", "renew", "pierdesk"]).status.success());
    let events = service.client_json(&["event", "list"]);
    let renewed = events
        .as_array()
        .unwrap()
        .iter()
        .find(|event| event["what"] == "renewed")
        .unwrap();
    assert!(
        !renewed["who"].as_str().unwrap().is_empty(),
        "the log names the local user: {renewed}"
    );
}

#[tokio::test]
async fn another_user_gets_no_answer_over_the_socket_even_where_the_folder_lets_them_in() {
    if !rustix::process::geteuid().is_root() {
        return;
    }
    let service = Service::demo(&[]);
    let socket = service.operator_socket();
    let ask = |socket: &std::path::Path, user: Option<u32>| -> std::io::Result<String> {
        let socket = socket.to_owned();
        let asking = std::thread::spawn(move || {
            if let Some(user) = user.map(Uid::from_raw) {
                rustix::thread::set_thread_res_uid(user, user, user)?;
            }
            let mut stream = UnixStream::connect(socket)?;
            stream.write_all(b"GET /manage/status HTTP/1.1\r\nhost: localhost\r\nconnection: close\r\n\r\n")?;
            let mut answer = String::new();
            let _ = stream.read_to_string(&mut answer);
            Ok(answer)
        });
        asking.join().unwrap()
    };
    assert!(ask(&socket, None).unwrap().starts_with("HTTP/1.1 200"));
    assert!(ask(&socket, Some(65_534)).is_err(), "the folder is the service's own");
    for path in [service.data.path(), socket.parent().unwrap(), &socket] {
        std::fs::set_permissions(path, Permissions::from_mode(0o777)).unwrap();
    }
    assert_eq!(ask(&socket, Some(65_534)).unwrap_or_default(), "");
    assert!(ask(&socket, None).unwrap().starts_with("HTTP/1.1 200"));
}

#[tokio::test]
async fn a_session_needs_cookie_token_and_the_consoles_own_origin() {
    let service = guarded(&[]);
    let session = Session::begin(&service).await;
    let (get, post) = (Method::GET, Method::POST);
    let same = ("sec-fetch-site", "same-origin");
    assert_eq!(session.status(get.clone(), "/manage/status", same).await, 200);
    assert_eq!(
        session.status(get.clone(), "/v1/models", same).await,
        200,
        "it calls models, too"
    );
    for site in ["cross-site", "same-site", "none"] {
        let found = session
            .status(get.clone(), "/manage/status", ("sec-fetch-site", site))
            .await;
        assert_eq!(found, 403, "{site}");
    }
    let own = session
        .status(post.clone(), "/manage/console", ("origin", &service.url))
        .await;
    assert_eq!(own, 201);
    assert_eq!(
        session.status(post.clone(), "/manage/console", ("accept", "*/*")).await,
        403,
        "no origin"
    );
    let foreign = session
        .status(post, "/manage/console", ("origin", "http://127.0.0.1:9"))
        .await;
    assert_eq!(foreign, 403);
    for half in [("cookie", &session.cookie), ("x-vastrelay-session", &session.token)] {
        let request = Client::new().get(format!("{}/manage/status", service.url));
        let request = request.header(half.0, half.1).header(same.0, same.1);
        assert_eq!(request.send().await.unwrap().status(), 401, "{} alone", half.0);
    }
}

#[tokio::test]
async fn a_session_ends_at_sign_out_and_its_stream_with_it() {
    let service = Service::demo(&[]);
    let session = Session::begin(&service).await;
    let same = ("sec-fetch-site", "same-origin");
    let live = session.call(Method::GET, "/manage/live").header(same.0, same.1);
    let live = live.send().await.unwrap();
    assert_eq!(live.status(), 200);
    let out = session.call(Method::DELETE, "/session").header("origin", &service.url);
    assert_eq!(out.send().await.unwrap().status(), 204);
    assert_eq!(session.status(Method::GET, "/manage/status", same).await, 401);
    assert!(live.bytes().await.is_ok(), "the stream ends");
}

#[tokio::test]
async fn a_live_stream_and_a_session_end_with_the_key_that_opened_them() {
    let mut service = guarded(&[]);
    let made = service.client_json(&["key", "create", "--name", "night", "--scope", "manage"]);
    let (key, ops) = (
        made["key"].as_str().unwrap().to_owned(),
        service.key.replace(String::new()),
    );
    service.key = Some(key.clone());
    let live = service.call(Method::GET, "/manage/live").send().await.unwrap();
    let begun = service.send("/session", &json!({})).await;
    let cookie = begun.headers()["set-cookie"]
        .to_str()
        .unwrap()
        .split(';')
        .next()
        .unwrap()
        .to_owned();
    let begun: Value = begun.json().await.unwrap();
    let session = Session {
        url: service.url.clone(),
        cookie,
        token: begun["token"].as_str().unwrap().to_owned(),
    };
    let same = ("sec-fetch-site", "same-origin");
    assert_eq!(session.status(Method::GET, "/manage/status", same).await, 200);
    service.key = ops;
    assert!(service.client(&["key", "revoke", &key]).status.success());
    assert!(live.bytes().await.is_ok(), "the stream ends");
    assert_eq!(session.status(Method::GET, "/manage/status", same).await, 401);
}

#[tokio::test]
async fn a_code_begins_one_session_and_a_key_for_calls_none() {
    let service = guarded(&[]);
    let link = service.client_json(&["console"])["url"].as_str().unwrap().to_owned();
    let code = link.split_once("#code=").unwrap().1;
    assert_eq!(exchange(&service, "0123").await.status(), 401);
    assert_eq!(exchange(&service, code).await.status(), 201);
    assert_eq!(exchange(&service, code).await.status(), 401, "it was used");
    let made = service.client_json(&["key", "create", "--name", "desk"]);
    let request = Client::new().post(format!("{}/session", service.url)).json(&json!({}));
    let answer = request.bearer_auth(made["key"].as_str().unwrap()).send().await.unwrap();
    assert_eq!(answer.status(), 403);
    assert_eq!(
        Client::new()
            .post(format!("{}/session", service.url))
            .json(&json!({}))
            .send()
            .await
            .unwrap()
            .status(),
        401
    );
    assert!(!service.greeting.contains("#code="), "a link goes to terminals only");
    assert!(!service.log().contains("#code="));
}
