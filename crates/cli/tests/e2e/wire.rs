//! The OpenAI wire.

use crate::support::{Service, chat, frames, repository, with};
use serde_json::{Value, json};
use std::collections::BTreeSet;

const SUNDAY: &str = "When is the last boat back from Tolsay on Sunday?";

#[tokio::test]
async fn models_are_listed_by_the_name_to_put_into_a_request() {
    let service = Service::demo(&[]);
    let (status, list) = service.get("/v1/models").await;
    assert_eq!(
        (status, &list["object"], &list["data"][0]["id"]),
        (200, &json!("list"), &json!("pierdesk"))
    );
    assert_eq!(service.get("/v1/models/pierdesk").await.1["id"], "pierdesk");
    assert_eq!(service.get("/v1/models/other").await.0, 404);
    assert_eq!(service.get("/health/live").await.0, 200);
    assert_eq!(
        service.get("/health/ready").await,
        (200, json!({"ready": true, "state": "ready"}))
    );
}

#[tokio::test]
async fn a_chat_streams_the_same_text_that_it_answers_whole() {
    let service = Service::demo(&[]);
    let whole = service.post("/v1/chat/completions", &chat(SUNDAY)).await.1;
    let text = whole["choices"][0]["message"]["content"].as_str().unwrap();
    assert!(text.contains("18:00"), "{text}");
    assert_eq!(whole["choices"][0]["finish_reason"], "stop");
    assert_eq!(
        whole["usage"]["total_tokens"],
        whole["usage"]["prompt_tokens"].as_u64().unwrap() + whole["usage"]["completion_tokens"].as_u64().unwrap()
    );

    let more = json!({"stream": true, "stream_options": {"include_usage": true}, "include": ["token_ids", "measured"]});
    let response = service.send("/v1/chat/completions", &with(chat(SUNDAY), more)).await;
    assert_eq!(response.headers()["content-type"], "text/event-stream");
    assert!(response.headers().contains_key("x-request-id"));
    let frames = frames(&response.text().await.unwrap());
    assert_eq!(frames.last().unwrap(), "[DONE]");
    let pieces: Vec<Value> = frames[..frames.len() - 1]
        .iter()
        .map(|frame| serde_json::from_str(frame).unwrap())
        .collect();
    assert_eq!(pieces[0]["choices"][0]["delta"]["role"], "assistant");
    let streamed: String = pieces
        .iter()
        .filter_map(|p| p["choices"][0]["delta"]["content"].as_str())
        .collect();
    assert_eq!(streamed, text);
    let ids: usize = pieces
        .iter()
        .filter_map(|p| p["choices"][0]["token_ids"].as_array())
        .map(Vec::len)
        .sum();
    let usage = &pieces.last().unwrap()["usage"];
    assert_eq!(usage["completion_tokens"], ids);
    assert_eq!(usage["prompt_tokens"], whole["usage"]["prompt_tokens"]);
    let end = &pieces[pieces.len() - 2]["choices"][0];
    assert_eq!(end["finish_reason"], "stop");
    assert_eq!(
        (&end["measured"]["ended"], &end["measured"]["output_tokens"]),
        (&json!("end-token"), &json!(ids))
    );
}

#[tokio::test]
async fn completions_take_text_lists_and_token_ids() {
    let service = Service::demo(&[]);
    let request =
        |prompt: Value| json!({"model": "pierdesk", "prompt": prompt, "max_tokens": 12, "include": ["token_ids"]});
    let one = service
        .post("/v1/completions", &request(json!("The last boat to Tolsay")))
        .await
        .1;
    let two = service
        .post(
            "/v1/completions",
            &request(json!(["The last boat to Tolsay", "The first boat"])),
        )
        .await
        .1;
    assert_eq!(two["choices"].as_array().unwrap().len(), 2);
    assert_eq!(two["choices"][0]["token_ids"], one["choices"][0]["token_ids"]);
    assert_eq!(
        (&two["choices"][1]["index"], &one["object"]),
        (&json!(1), &json!("text_completion"))
    );
    let ids = json!([10, 20, 30]);
    let by_ids = service.post("/v1/completions", &request(ids.clone())).await.1;
    let by_lists = service.post("/v1/completions", &request(json!([ids]))).await.1;
    assert_eq!(by_ids["choices"], by_lists["choices"]);
    assert_eq!(by_ids["usage"]["prompt_tokens"], 3);
    let stream = with(request(json!("The last boat to Tolsay")), json!({"stream": true}));
    let body = service.send("/v1/completions", &stream).await.text().await.unwrap();
    let text: String = frames(&body)
        .iter()
        .filter_map(|frame| serde_json::from_str::<Value>(frame).ok())
        .filter_map(|piece| piece["choices"][0]["text"].as_str().map(str::to_owned))
        .collect();
    assert_eq!(text, one["choices"][0]["text"]);
}

#[tokio::test]
async fn sampling_fields_show_their_effect() {
    let service = Service::demo(&[]);
    let content = |answer: &Value, n: usize| answer["choices"][n]["message"]["content"].as_str().unwrap().to_owned();
    let ask = async |more: Value| {
        service
            .post("/v1/chat/completions", &with(chat("Tell me a joke"), more))
            .await
    };
    let plain = content(&ask(json!({})).await.1, 0);

    let hot = json!({"temperature": 2.0, "seed": 11, "n": 2, "max_tokens": 30});
    let first = ask(hot.clone()).await.1;
    assert_eq!(first["choices"], ask(hot).await.1["choices"], "a seed repeats");
    assert_ne!(content(&first, 0), content(&first, 1), "choices differ");
    let other = ask(json!({"temperature": 2.0, "seed": 12, "max_tokens": 30})).await.1;
    assert_ne!(content(&first, 0), content(&other, 0), "seeds differ");
    for cut in [json!({"top_k": 1}), json!({"top_p": 0.0}), json!({"min_p": 1.0})] {
        let more = with(json!({"temperature": 2.0, "seed": 3}), cut);
        assert_eq!(content(&ask(more.clone()).await.1, 0), plain, "{more}");
    }

    let cut = ask(json!({"max_completion_tokens": 5})).await.1;
    assert_eq!(
        (&cut["choices"][0]["finish_reason"], &cut["usage"]["completion_tokens"]),
        (&json!("length"), &json!(5))
    );
    let stop = ask(json!({"stop": "funnel"})).await.1;
    assert_eq!(content(&stop, 0), plain.split("funnel").next().unwrap());
    let longer = ask(json!({"min_tokens": 100, "max_tokens": 100})).await.1;
    assert_eq!(longer["usage"]["completion_tokens"], 100);

    let first_id = ask(json!({"include": ["token_ids"]})).await.1["choices"][0]["token_ids"][0]
        .as_u64()
        .unwrap();
    let biased = ask(json!({"logit_bias": {first_id.to_string(): -100}})).await.1;
    assert_ne!(content(&biased, 0), plain);
    let logprobs =
        ask(json!({"logprobs": true, "top_logprobs": 3})).await.1["choices"][0]["logprobs"]["content"].clone();
    let top = logprobs[0]["top_logprobs"].as_array().unwrap();
    assert_eq!((top.len(), &top[0]["token"]), (3, &logprobs[0]["token"]));
    assert!(top[0]["logprob"].as_f64().unwrap() >= top[1]["logprob"].as_f64().unwrap());
}

/// On random weights, which repeat themselves readily; the demo model is too sure of its words.
#[tokio::test]
async fn penalties_keep_words_from_coming_again() {
    let folder = tempfile::tempdir().unwrap();
    let fixture = std::fs::read(repository().join("demo/reference/fixtures/odd.json")).unwrap();
    let config = serde_json::from_slice::<Value>(&fixture).unwrap()["config"].clone();
    vastrelay_specimen::write(folder.path(), &config, vastrelay_specimen::Stored::F32).unwrap();
    let service = Service::start(&["--model", &format!("odd={}", folder.path().display())]);
    let distinct = async |more: Value| {
        let request =
            json!({"model": "odd", "prompt": [7], "max_tokens": 40, "temperature": 0, "include": ["token_ids"]});
        let answer = service.post("/v1/completions", &with(request, more)).await.1;
        let ids: BTreeSet<u64> = answer["choices"][0]["token_ids"]
            .as_array()
            .unwrap()
            .iter()
            .filter_map(Value::as_u64)
            .collect();
        ids.len()
    };
    let free = distinct(json!({})).await;
    for penalty in [
        json!({"frequency_penalty": 2.0}),
        json!({"presence_penalty": 2.0}),
        json!({"repetition_penalty": 3.0}),
    ] {
        assert!(distinct(penalty.clone()).await > free, "{penalty}");
    }
}

#[tokio::test]
async fn a_system_message_and_parts_of_content_are_taken() {
    let service = Service::demo(&[]);
    let request = json!({"model": "pierdesk", "messages": [
        {"role": "system", "content": "Answer briefly."},
        {"role": "user", "content": [{"type": "text", "text": SUNDAY}]},
    ]});
    let (status, answer) = service.post("/v1/chat/completions", &request).await;
    assert_eq!(status, 200, "{answer}");
    assert!(
        answer["choices"][0]["message"]["content"]
            .as_str()
            .unwrap()
            .contains("18:00")
    );
}

#[tokio::test]
async fn fields_that_ask_for_nothing_are_taken_and_change_nothing() {
    let service = Service::demo(&[]);
    let plain = service.ask("Can I bring my dog?").await;
    for more in [
        json!({"user": "u-17"}),
        json!({"metadata": {"trip": "9"}}),
        json!({"store": false}),
        json!({"tools": [], "tool_choice": "none", "parallel_tool_calls": true}),
        json!({"tool_choice": "auto"}),
        json!({"response_format": {"type": "text"}}),
        json!({"stream": false, "stream_options": null, "stop": null, "logit_bias": null, "n": 1}),
    ] {
        let (status, answer) = service
            .post("/v1/chat/completions", &with(chat("Can I bring my dog?"), more.clone()))
            .await;
        assert_eq!(
            (status, &answer["choices"][0]["message"]["content"]),
            (200, &json!(plain)),
            "{more}"
        );
    }
}

#[tokio::test]
async fn best_of_returns_the_likeliest_of_those_it_makes() {
    let service = Service::demo(&[]);
    let ask = async |more: Value| {
        let request =
            json!({"model": "pierdesk", "prompt": "The last boat to", "max_tokens": 6, "temperature": 2.0, "seed": 9});
        service.post("/v1/completions", &with(request, more)).await
    };
    let all = ask(json!({"n": 6, "logprobs": 0})).await.1;
    let mean = |choice: &Value| {
        let logprobs = choice["logprobs"]["token_logprobs"].as_array().unwrap();
        logprobs.iter().filter_map(Value::as_f64).sum::<f64>() / logprobs.len() as f64
    };
    let mut ranked = all["choices"].as_array().unwrap().clone();
    ranked.sort_by(|a, b| mean(b).total_cmp(&mean(a)));
    let best = ask(json!({"n": 2, "best_of": 6})).await.1;
    let texts = |choices: &[Value]| choices.iter().map(|choice| choice["text"].clone()).collect::<Vec<_>>();
    assert_eq!(texts(best["choices"].as_array().unwrap()), texts(&ranked[..2]));
    assert_eq!(
        (&best["choices"][1]["index"], &best["choices"][0]["logprobs"]),
        (&json!(1), &Value::Null)
    );
    assert_eq!(best["usage"], all["usage"], "all that were made count");
    for (more, words) in [
        (json!({"n": 3, "best_of": 2}), "use 3 or more"),
        (json!({"best_of": 2, "stream": true}), "`stream`"),
        (json!({"best_of": 99}), "1 to 16"),
    ] {
        let (status, answer) = ask(more).await;
        assert!(
            status == 400 && answer["error"]["message"].as_str().unwrap().contains(words),
            "{answer}"
        );
    }
}

/// Joins the pieces of a streamed choice into what the whole answer would have.
fn joined(body: &str, index: usize) -> Value {
    let (mut text, mut lists) = (String::new(), serde_json::Map::new());
    let pieces = frames(body)
        .into_iter()
        .filter_map(|frame| serde_json::from_str::<Value>(&frame).ok());
    for piece in pieces.filter(|piece| piece["choices"][0]["index"] == json!(index)) {
        let choice = &piece["choices"][0];
        text.push_str(choice["text"].as_str().unwrap());
        for (name, more) in choice["logprobs"].as_object().into_iter().flatten() {
            let list = lists.entry(name).or_insert_with(|| json!([])).as_array_mut().unwrap();
            list.extend(more.as_array().unwrap().iter().cloned());
        }
    }
    json!({"text": text, "logprobs": lists})
}

#[tokio::test]
async fn echo_with_logprobs_tells_those_of_the_prompt_too() {
    let service = Service::demo(&[]);
    let prompts = ["The last boat é back", "Dogs travel"];
    let request = |more: Value| {
        let request = json!({"model": "pierdesk", "prompt": prompts, "echo": true, "logprobs": 2, "max_tokens": 6, "temperature": 0});
        with(request, more)
    };
    let (status, whole) = service.post("/v1/completions", &request(json!({"n": 2}))).await;
    assert_eq!(status, 200, "{whole}");
    for (index, choice) in whole["choices"].as_array().unwrap().iter().enumerate() {
        let (text, lists) = (choice["text"].as_str().unwrap(), &choice["logprobs"]);
        assert!(text.starts_with(prompts[index / 2]));
        let tokens: Vec<&str> = lists["tokens"]
            .as_array()
            .unwrap()
            .iter()
            .map(|t| t.as_str().unwrap())
            .collect();
        let count = tokens.len();
        for name in ["token_logprobs", "top_logprobs", "text_offset"] {
            assert_eq!(lists[name].as_array().unwrap().len(), count, "{name}");
        }
        assert!(lists["token_logprobs"][0].is_null() && lists["top_logprobs"][0].is_null());
        for place in 1..count {
            let logprob = lists["token_logprobs"][place].as_f64().unwrap();
            let best = lists["top_logprobs"][place].as_object().unwrap().values();
            let best = best
                .map(|best| best.as_f64().unwrap())
                .fold(f64::NEG_INFINITY, f64::max);
            assert!(logprob <= best && best <= 0.0, "{logprob} {best}");
        }
        // Each token stands where its offset says.
        let characters: Vec<char> = text.chars().collect();
        for (place, token) in tokens.iter().enumerate().filter(|(_, token)| token.is_ascii()) {
            let offset = lists["text_offset"][place].as_u64().unwrap() as usize;
            let found: String = characters[offset..].iter().take(token.len()).collect();
            assert!(
                found == **token || token.starts_with('<'),
                "{token:?} is {found:?} at {offset}"
            );
        }
    }
    let streamed = service
        .send("/v1/completions", &request(json!({"n": 2, "stream": true})))
        .await;
    let body = streamed.text().await.unwrap();
    for (index, choice) in whole["choices"].as_array().unwrap().iter().enumerate() {
        let pieces = joined(&body, index);
        assert_eq!(
            (&pieces["text"], &pieces["logprobs"]),
            (&choice["text"], &choice["logprobs"])
        );
    }
}

#[tokio::test]
async fn the_likelihood_of_a_text_can_be_asked_for_without_an_answer() {
    let service = Service::demo(&[]);
    let ids = service
        .post(
            "/text/encode",
            &json!({"model": "pierdesk", "text": "The last boat back"}),
        )
        .await
        .1;
    let ids = ids["token_ids"].clone();
    let request = |more: Value| {
        let request = json!({"model": "pierdesk", "prompt": ids, "echo": true, "logprobs": 0, "temperature": 0});
        with(request, more)
    };
    let read = service
        .post("/v1/completions", &request(json!({"max_tokens": 0})))
        .await
        .1;
    let choice = &read["choices"][0];
    assert_eq!(
        (&choice["text"], &choice["finish_reason"]),
        (&json!("The last boat back"), &json!("length"))
    );
    assert_eq!(
        (&read["usage"]["completion_tokens"], &read["usage"]["prompt_tokens"]),
        (&json!(0), &json!(ids.as_array().unwrap().len()))
    );
    let twice = service
        .post("/v1/completions", &request(json!({"max_tokens": 0, "n": 2})))
        .await
        .1;
    for both in twice["choices"].as_array().unwrap() {
        assert_eq!(
            (&both["text"], &both["logprobs"]),
            (&choice["text"], &choice["logprobs"])
        );
    }
    assert_eq!(twice["choices"].as_array().unwrap().len(), 2);
    // What the engine chooses after a beginning has the probability that it has as a part of the prompt.
    let logprobs = choice["logprobs"]["token_logprobs"].as_array().unwrap();
    let forced = |count: usize| {
        let (beginning, next) = (&ids.as_array().unwrap()[..count], &ids[count]);
        let bias = json!({ next.to_string(): 100 });
        json!({"model": "pierdesk", "prompt": beginning, "logprobs": 0, "temperature": 0, "max_tokens": 1, "logit_bias": bias})
    };
    for count in 1..logprobs.len() {
        let chosen = service.post("/v1/completions", &forced(count)).await.1;
        assert_eq!(chosen["choices"][0]["logprobs"]["token_logprobs"][0], logprobs[count]);
    }
    let body = service
        .send("/v1/completions", &request(json!({"max_tokens": 0, "stream": true})))
        .await
        .text()
        .await
        .unwrap();
    assert_eq!(joined(&body, 0)["logprobs"], choice["logprobs"]);
    assert!(
        body.contains("\"finish_reason\":\"length\"") && body.trim_end().ends_with("[DONE]"),
        "{body}"
    );
}

#[tokio::test]
async fn echo_says_the_prompt_again_whole_and_streamed() {
    let service = Service::demo(&[]);
    let request = |more: Value| {
        with(
            json!({"model": "pierdesk", "prompt": ["The last boat", "The first boat"], "max_tokens": 5}),
            more,
        )
    };
    let plain = service.post("/v1/completions", &request(json!({}))).await.1;
    let echoed = service.post("/v1/completions", &request(json!({"echo": true}))).await.1;
    for (index, prompt) in ["The last boat", "The first boat"].into_iter().enumerate() {
        let wanted = format!("{prompt}{}", plain["choices"][index]["text"].as_str().unwrap());
        assert_eq!(echoed["choices"][index]["text"], json!(wanted));
    }
    let body = service
        .send("/v1/completions", &request(json!({"echo": true, "stream": true})))
        .await
        .text()
        .await
        .unwrap();
    let first: String = frames(&body)
        .iter()
        .filter_map(|frame| serde_json::from_str::<Value>(frame).ok())
        .filter(|piece| piece["choices"][0]["index"] == 0)
        .filter_map(|piece| piece["choices"][0]["text"].as_str().map(str::to_owned))
        .collect();
    assert_eq!(json!(first), echoed["choices"][0]["text"]);
    for (more, words) in [
        (json!({"max_tokens": 0}), "0 together with `echo`"),
        (json!({"suffix": "end"}), "`suffix`"),
    ] {
        let (status, answer) = service.post("/v1/completions", &request(more)).await;
        assert!(
            status == 400 && answer["error"]["message"].as_str().unwrap().contains(words),
            "{answer}"
        );
    }
    assert_eq!(
        service
            .post(
                "/v1/completions",
                &request(json!({"suffix": "", "user": "u", "metadata": {"a": "b"}}))
            )
            .await
            .0,
        200
    );
}

#[tokio::test]
async fn text_without_its_template_draws_a_note() {
    let service = Service::demo(&[]);
    let note = async |path: &str, body: Value| {
        let response = service.send(path, &body).await;
        assert_eq!(response.status(), 200);
        response
            .headers()
            .get("x-vastrelay-note")
            .map(|note| note.to_str().unwrap().to_owned())
    };
    let plain = json!({"model": "pierdesk", "prompt": "Can I bring my dog?", "max_tokens": 2});
    assert!(
        note("/v1/completions", plain.clone())
            .await
            .unwrap()
            .contains("/v1/chat/completions")
    );
    assert!(
        note("/v1/completions", with(plain.clone(), json!({"stream": true})))
            .await
            .is_some()
    );
    assert_eq!(note("/v1/chat/completions", chat("Can I bring my dog?")).await, None);
    let rendered = service.post("/text/render", &chat("Can I bring my dog?")).await.1;
    assert_eq!(
        note("/v1/completions", with(plain, json!({"prompt": rendered["text"]}))).await,
        None
    );
}

#[tokio::test]
async fn what_a_model_would_get_is_shown_counted_encoded_and_decoded() {
    let service = Service::demo(&[]);
    let question = "Can I bring my dog?";
    let rendered = service.post("/text/render", &chat(question)).await.1;
    let text = rendered["text"].as_str().unwrap();
    assert!(text.contains(question) && text.len() > question.len());
    let answered = service.post("/v1/chat/completions", &chat(question)).await.1;
    let ids = rendered["token_ids"].as_array().unwrap();
    assert_eq!(json!(ids.len()), answered["usage"]["prompt_tokens"]);
    // Sent as ids, it is the very prompt that the chat made.
    let plain = json!({"model": "pierdesk", "prompt": ids, "max_tokens": 200});
    let continued = service.post("/v1/completions", &plain).await.1;
    assert_eq!(
        continued["choices"][0]["text"],
        answered["choices"][0]["message"]["content"]
    );
    let decoded = service
        .post("/text/decode", &json!({"model": "pierdesk", "token_ids": ids}))
        .await
        .1;
    assert_eq!(decoded["text"], rendered["text"]);
    let encoded = service
        .post("/text/encode", &json!({"model": "pierdesk", "text": "Grüße, Boot"}))
        .await
        .1;
    let count = service
        .post("/text/count", &json!({"model": "pierdesk", "text": "Grüße, Boot"}))
        .await
        .1;
    assert_eq!(
        count["tokens"].as_u64().unwrap() as usize,
        encoded["token_ids"].as_array().unwrap().len()
    );
    assert_eq!(count["left"], json!(2048 - count["tokens"].as_u64().unwrap()));
    let counted = service.post("/text/count", &chat(question)).await.1;
    assert_eq!(counted["tokens"], json!(ids.len()));
    let open = service
        .post("/text/render", &with(chat(question), json!({"answer_start": false})))
        .await
        .1;
    assert!(text.starts_with(open["text"].as_str().unwrap()) && open["text"] != rendered["text"]);
    // A control token's name in a message is text, and shows as it was written.
    let sly = service.post("/text/render", &chat("<|end|> hello")).await.1;
    assert!(sly["text"].as_str().unwrap().contains("<|end|> hello"));
    for (path, body, words) in [
        (
            "/text/encode",
            json!({"model": "pierdesk"}),
            "send either `text` or `messages`",
        ),
        (
            "/text/decode",
            json!({"model": "pierdesk", "token_ids": [9999]}),
            "0 to 2047",
        ),
        (
            "/text/render",
            json!({"model": "pierdesk", "messages": []}),
            "`messages` is empty",
        ),
        ("/text/count", json!({"model": "nope", "text": "a"}), "`pierdesk`"),
        ("/text/count", json!({"model": "pierdesk", "txt": "a"}), "txt"),
    ] {
        let (status, answer) = service.post(path, &body).await;
        assert!(
            status >= 400 && answer["error"]["message"].as_str().unwrap().contains(words),
            "{answer}"
        );
    }
    let shown = |words: &[&str]| String::from_utf8(service.client(words).stdout).unwrap();
    assert!(shown(&["text", "render", question]).contains(text));
    assert!(shown(&["text", "count", question]).contains("are left for the answer"));
    assert!(shown(&["text", "encode", "boat"]).contains("\"b"));
    assert_eq!(shown(&["text", "decode", &ids[1].to_string()]).lines().count(), 1);
    let table = shown(&["text", "score", "The last boat back"]);
    assert!(table.contains("more likely") && table.contains("perplexity"), "{table}");
    let score: Value = serde_json::from_str(&shown(&["text", "score", "--json", "The last boat back"])).unwrap();
    let tokens = score["tokens"].as_array().unwrap();
    let losses: Vec<f64> = tokens
        .iter()
        .filter_map(|token| Some(-token["logprob"].as_f64()?))
        .collect();
    assert_eq!(
        (json!(losses.len()), losses.len()),
        (score["scored"].clone(), tokens.len() - 1)
    );
    let loss = losses.iter().sum::<f64>() / losses.len() as f64;
    let perplexity = score["perplexity"].as_f64().unwrap();
    assert!((score["loss"].as_f64().unwrap() - loss).abs() < 1e-6, "{score}");
    assert!((perplexity / loss.exp() - 1.0).abs() < 1e-6, "{score}");
}

/// What is refused, by which status, and words that the message has to hold.
#[tokio::test]
async fn refusals_say_what_is_wrong_and_what_would_work() {
    let service = Service::demo(&["--context", "128"]);
    let chat = |more: Value| with(chat(SUNDAY), more);
    let long = "boat ".repeat(200);
    let cases = [
        (404, chat(json!({"model": "nope"})), vec!["`nope`", "`pierdesk`"]),
        (
            400,
            chat(json!({"messages": [{"role": "user", "content": long}]})),
            vec!["128", "127"],
        ),
        (400, chat(json!({"max_tokens": 5000})), vec!["5000", "128"]),
        (400, chat(json!({"messages": []})), vec!["`messages` is empty"]),
        (
            400,
            chat(json!({"messages": [{"role": "pilot", "content": "x"}]})),
            vec!["not pilot"],
        ),
        (
            400,
            chat(json!({"temperature": 3})),
            vec!["`temperature` is 3", "0 to 2"],
        ),
        (400, chat(json!({"top_p": -0.5})), vec!["`top_p`"]),
        (400, chat(json!({"min_p": 1.5})), vec!["`min_p`"]),
        (
            400,
            chat(json!({"repetition_penalty": 0})),
            vec!["`repetition_penalty`"],
        ),
        (400, chat(json!({"presence_penalty": 3})), vec!["`presence_penalty`"]),
        (400, chat(json!({"frequency_penalty": -3})), vec!["`frequency_penalty`"]),
        (400, chat(json!({"n": 0})), vec!["`n` is 0", "1 to 16"]),
        (
            400,
            chat(json!({"max_tokens": 0})),
            vec!["`max_tokens` is 0; use 1 to 128"],
        ),
        (
            400,
            chat(json!({"min_tokens": 50, "max_tokens": 5})),
            vec!["`min_tokens`"],
        ),
        (400, chat(json!({"logit_bias": {"99999": 1}})), vec!["99999", "2047"]),
        (
            400,
            chat(json!({"logit_bias": {"5": 101}})),
            vec!["`logit_bias`", "100"],
        ),
        (
            400,
            chat(json!({"logprobs": true, "top_logprobs": 50})),
            vec!["`top_logprobs`", "20"],
        ),
        (400, chat(json!({"top_logprobs": 2})), vec!["needs `logprobs`"]),
        (400, chat(json!({"stop": vec!["x"; 40]})), vec!["more than 16 elements"]),
        (400, chat(json!({"tools": [{"type": "function"}]})), vec!["`tools`"]),
        (400, chat(json!({"tool_choice": "required"})), vec!["`tool_choice`"]),
        (
            400,
            chat(json!({"response_format": {"type": "json_object"}})),
            vec!["`response_format`", "\"text\""],
        ),
        (400, chat(json!({"store": true})), vec!["`store`"]),
        (400, chat(json!({"temprature": 1})), vec!["temprature", "temperature"]),
        (
            400,
            chat(json!({"messages": [{"role": "user", "content": 5}]})),
            vec!["messages[0].content", "a string or a list of text parts"],
        ),
    ];
    for (status, body, words) in cases {
        let (found, answer) = service.post("/v1/chat/completions", &body).await;
        let message = answer["error"]["message"].as_str().unwrap_or_default();
        assert_eq!(found, status, "{body}: {answer}");
        assert!(
            words.iter().all(|word| message.contains(word)),
            "{words:?} in {message}"
        );
        assert!(!message.contains("echo"), "chat has no such field: {message}");
    }
    let plain = |prompt: Value| json!({"model": "pierdesk", "prompt": prompt});
    for (prompt, word) in [
        (json!([5, 4000]), "4000"),
        (json!([]), "`prompt` is an empty list"),
        (json!({"a": 1}), "a string, a list of strings"),
    ] {
        let (status, answer) = service.post("/v1/completions", &plain(prompt)).await;
        assert_eq!(status, 400);
        assert!(answer["error"]["message"].as_str().unwrap().contains(word), "{answer}");
    }
    assert_eq!(service.endpoint().await["occupancy"]["pages_used"], 0);
}

#[tokio::test]
async fn malformed_json_is_answered_with_line_and_column() {
    let service = Service::demo(&[]);
    let client = reqwest::Client::new();
    let body = "{\n  \"model\": \"pierdesk\",\n  \"messages\": [{]\n}";
    let response = client
        .post(format!("{}/v1/chat/completions", service.url))
        .body(body)
        .send()
        .await
        .unwrap();
    assert_eq!(response.status(), 400);
    let answer: Value = response.json().await.unwrap();
    let message = answer["error"]["message"].as_str().unwrap();
    assert!(
        message.contains("line 3, column 17") && message.contains("messages[0]"),
        "{message}"
    );
    assert_eq!(answer["error"]["code"], "invalid_json");
}

#[tokio::test]
async fn near_misses_are_told_the_right_call() {
    let service = Service::demo(&[]);
    for path in ["/chat/completions", "/v1/v1/chat/completions", "/v1/chat/completions/"] {
        let (status, answer) = service.post(path, &chat(SUNDAY)).await;
        assert_eq!(status, 404);
        assert!(
            answer["error"]["message"]
                .as_str()
                .unwrap()
                .contains("POST /v1/chat/completions"),
            "{answer}"
        );
    }
    let (status, answer) = service.get("/v1/chat/completions").await;
    assert_eq!(status, 405);
    assert!(
        answer["error"]["message"]
            .as_str()
            .unwrap()
            .contains("does not support GET; use POST"),
        "{answer}"
    );
}

#[tokio::test]
async fn developer_messages_are_the_system_role_where_the_template_knows_no_other() {
    let service = Service::demo(&[]);
    let messages = |role: &str| {
        json!({"model": "pierdesk", "messages": [
        {"role": role, "content": "Be brief."}, {"role": "user", "content": "Hello"}]})
    };
    let (status, system) = service.post("/text/render", &messages("system")).await;
    assert_eq!(status, 200, "{system}");
    assert_eq!(
        service.post("/text/render", &messages("developer")).await,
        (200, system)
    );
    assert_eq!(
        service.post("/v1/chat/completions", &messages("developer")).await.0,
        200
    );
}
