//! Keys that are good for some endpoints only: to who calls with one, there are no others.

use crate::support::{Service, chat, repository, with};
use serde_json::{Value, json};

/// Calls with a key; returns the status and the answer.
async fn call(service: &Service, key: &str, path: &str, body: Option<&Value>) -> (u16, Value) {
    let (client, url) = (reqwest::Client::new(), format!("{}{path}", service.url));
    let request = match body {
        Some(body) => client.post(url).json(body),
        None => client.get(url),
    };
    let response = request.bearer_auth(key).send().await.unwrap();
    let status = response.status().as_u16();
    (status, response.json().await.unwrap_or_default())
}

#[tokio::test]
async fn a_key_for_one_endpoint_knows_of_no_other() {
    let folder = repository().join("demo/models/pierdesk-1");
    let second = format!("harbour={}", folder.display());
    let service = Service::demo(&["--model", &second]);
    let made = service.client_json(&["key", "create", "--name", "desk", "--endpoint", "pierdesk"]);
    assert_eq!(made["entry"]["endpoints"], json!(["pierdesk"]));
    let key = made["key"].as_str().unwrap();
    let listed = call(&service, key, "/v1/models", None).await.1;
    assert_eq!(listed["data"].as_array().unwrap().len(), 1);
    assert_eq!(listed["data"][0]["id"], "pierdesk");
    assert_eq!(call(&service, key, "/v1/models/pierdesk", None).await.0, 200);
    let question = |model: &str| with(chat("When?"), json!({"model": model, "max_tokens": 2}));
    let text = |model: &str| json!({"model": model, "text": "When?"});
    let completion = |model: &str| json!({"model": model, "prompt": "When?", "max_tokens": 2});
    let ids = |model: &str| json!({"model": model, "token_ids": [300]});
    let messages = |model: &str| json!({"model": model, "messages": [{"role": "user", "content": "When?"}]});
    type Body<'a> = &'a dyn Fn(&str) -> Value;
    let calls: [(&str, Body<'_>); 6] = [
        ("/v1/chat/completions", &question),
        ("/v1/completions", &completion),
        ("/text/count", &text),
        ("/text/encode", &text),
        ("/text/decode", &ids),
        ("/text/render", &messages),
    ];
    for (path, body) in calls {
        assert_eq!(
            call(&service, key, path, Some(&body("pierdesk"))).await.0,
            200,
            "{path}"
        );
        let hidden = call(&service, key, path, Some(&body("harbour"))).await;
        let absent = call(&service, key, path, Some(&body("boathouse"))).await;
        assert_eq!(
            (hidden.0, &hidden.1["error"]["code"]),
            (404, &json!("model_not_found")),
            "{path}"
        );
        let said = |answer: &Value| answer["error"]["message"].as_str().unwrap().to_owned();
        assert_eq!(
            said(&hidden.1).replace("harbour", "boathouse"),
            said(&absent.1),
            "{path}: no difference shows"
        );
    }
    assert_eq!(call(&service, key, "/v1/models/harbour", None).await.0, 404);
    // What is hidden stays so when it is stopped.
    service.client(&["endpoint", "stop", "harbour"]);
    let stopped = call(&service, key, "/v1/chat/completions", Some(&question("harbour"))).await;
    assert_eq!(stopped.0, 404, "{}", stopped.1);
    let (status, refused) = call(&service, key, "/metrics", None).await;
    assert_eq!((status, &refused["error"]["code"]), (403, &json!("key_limited")));
    assert_eq!(call(&service, key, "/manage/status", None).await.0, 403);
    let all = service.client_json(&["key", "create", "--name", "all"]);
    let all = all["key"].as_str().unwrap();
    assert_eq!(call(&service, all, "/metrics", None).await.0, 200);
    let keys = service.client(&["key", "list"]);
    let keys = String::from_utf8(keys.stdout).unwrap();
    assert!(
        keys.contains("endpoints") && keys.contains("pierdesk") && keys.contains("all"),
        "{keys}"
    );
}

#[tokio::test]
async fn what_a_limited_key_cannot_be_is_refused_and_told_why() {
    let service = Service::demo(&[]);
    for (body, text) in [
        (json!({"name": "a", "endpoints": ["a b"]}), "is not an endpoint name"),
        (
            json!({"name": "a", "scope": "manage", "endpoints": ["pierdesk"]}),
            "it sees all of them",
        ),
        (json!({"name": "a", "endpoints": vec!["x"; 101]}), "100 at most"),
    ] {
        let (status, refused) = service.post("/manage/keys", &body).await;
        assert_eq!(
            (status, &refused["error"]["param"]),
            (400, &json!("endpoints")),
            "{refused}"
        );
        assert!(
            refused["error"]["message"].as_str().unwrap().contains(text),
            "{refused}"
        );
    }
}
