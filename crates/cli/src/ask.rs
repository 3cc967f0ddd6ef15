//! `vastrelay ask`.

use crate::args::ask::AskOptions;
use crate::client::Client;
use crate::failure::Failure;
use crate::output::{json, line, print};
use crate::plain::note;
use eventsource_stream::Eventsource;
use futures_util::StreamExt;
use serde::Serialize;
use serde_json::Value;
use std::io::{IsTerminal, Read};
use vastrelay_planner::amounts::count_of;
use vastrelay_wire::chat::{ChatMessage, ChatPiece, ChatRequest, Content};
use vastrelay_wire::completion::{CompletionAnswer, CompletionRequest, Prompt};
use vastrelay_wire::error::ErrorEnvelope;
use vastrelay_wire::models::ModelList;
use vastrelay_wire::sampling::{Include, Measured, Stop};

/// Most tokens of a continuation without --max-tokens.
const USUAL_CONTINUATION: u32 = 128;

/// Asks, and prints the answer as it comes.
pub async fn run(options: &AskOptions) -> Result<(), Failure> {
    let question = question(options)?;
    let client = Client::new(&options.connection)?;
    let model = client.model_or_only(options.model.as_ref()).await?;
    let asking = async {
        let defaults = defaults_line(&client, options, &model).await;
        match options.plain {
            true => {
                answer(
                    &client,
                    "/v1/completions",
                    &continuation(options, model, question),
                    options,
                    plain_piece,
                )
                .await
            }
            false => {
                answer(
                    &client,
                    "/v1/chat/completions",
                    &request(options, model, question),
                    options,
                    chat_piece,
                )
                .await
            }
        }?;
        defaults.iter().for_each(note);
        Ok(())
    };
    tokio::select! {
        outcome = asking => outcome,
        _ = tokio::signal::ctrl_c() => {
            // The connection closes with the process, and the service takes the request out of the batch.
            line("");
            Err(Failure::failed("interrupted; the request was cancelled"))
        }
    }
}

/// Returns what was typed, or what was piped in, or both when `--stdin` says so.
///
/// With a question typed, standard input is left alone: it may be a pipe that some other program holds open for ever.
fn question(options: &AskOptions) -> Result<String, Failure> {
    let mut parts: Vec<String> = options.question.iter().cloned().collect();
    if options.stdin || (options.question.is_none() && !std::io::stdin().is_terminal()) {
        parts.push(piped()?);
    }
    let question = parts
        .into_iter()
        .filter(|part| !part.is_empty())
        .collect::<Vec<_>>()
        .join("\n\n");
    if question.is_empty() {
        return Err(Failure::usage("no question; type one after `ask`, or pipe one in"));
    }
    Ok(question)
}

/// Returns what is piped in, without the line ends at its end.
pub fn piped() -> Result<String, Failure> {
    let mut piped = String::new();
    std::io::stdin().read_to_string(&mut piped).map_err(|error| {
        Failure::failed(format!(
            "cannot read standard input: {}",
            vastrelay_files::reason(&error)
        ))
    })?;
    Ok(piped.trim_end().to_owned())
}

fn request(options: &AskOptions, model: String, question: String) -> ChatRequest {
    let say = |role: &str, text: String| ChatMessage {
        role: role.into(),
        content: Some(Content::Text(text)),
        ..ChatMessage::default()
    };
    let mut messages: Vec<ChatMessage> = options.system.iter().map(|text| say("system", text.clone())).collect();
    messages.push(say("user", question));
    ChatRequest {
        model,
        messages,
        stream: Some(!options.json),
        max_tokens: options.max_tokens,
        temperature: options.temperature,
        top_p: options.top_p,
        top_k: options.top_k,
        min_p: options.min_p,
        seed: options.seed,
        stop: (!options.stop.is_empty()).then(|| Stop::Many(options.stop.clone())),
        include: options.figures.then(|| vec![Include::Measured]),
        ..ChatRequest::default()
    }
}

/// Returns the request that continues a text.
fn continuation(options: &AskOptions, model: String, text: String) -> CompletionRequest {
    CompletionRequest {
        model,
        prompt: Prompt::Text(text),
        stream: Some(!options.json),
        max_tokens: options.max_tokens.or(Some(USUAL_CONTINUATION)),
        temperature: options.temperature,
        top_p: options.top_p,
        top_k: options.top_k,
        min_p: options.min_p,
        seed: options.seed,
        stop: (!options.stop.is_empty()).then(|| Stop::Many(options.stop.clone())),
        include: options.figures.then(|| vec![Include::Measured]),
        ..CompletionRequest::default()
    }
}

/// Returns the sampling settings that the question leaves to the endpoint, in a line for people at a terminal.
async fn defaults_line(client: &Client, options: &AskOptions, model: &str) -> Option<String> {
    if options.json || !(options.figures || std::io::stderr().is_terminal()) {
        return None;
    }
    let models: ModelList = client.get("/v1/models").await.ok()?;
    let defaults = models.data.into_iter().find(|entry| entry.id == model)?.defaults?;
    let said = [
        (
            "temperature",
            options.temperature.is_none(),
            defaults.temperature.map(|value| value.to_string()),
        ),
        (
            "top_p",
            options.top_p.is_none(),
            defaults.top_p.map(|value| value.to_string()),
        ),
        (
            "top_k",
            options.top_k.is_none(),
            defaults.top_k.map(|value| value.to_string()),
        ),
        (
            "max_tokens",
            options.max_tokens.is_none() && !options.plain,
            Some(match defaults.max_tokens {
                Some(most) => most.to_string(),
                None => "as the context allows".into(),
            }),
        ),
    ];
    let used = said.into_iter().filter(|(_, is_left, _)| *is_left);
    let used: Vec<String> = used
        .filter_map(|(name, _, value)| Some(format!("{name} {}", value?)))
        .collect();
    (!used.is_empty()).then(|| format!("(defaults of this endpoint: {})", used.join(", ")))
}

/// A piece of an answer: text, and how it ended where it has.
type Said = (String, Option<(String, Option<Measured>)>);

fn chat_piece(data: &str) -> Result<Vec<Said>, Failure> {
    let piece: ChatPiece = serde_json::from_str(data).map_err(broken)?;
    let said = piece.choices.into_iter().map(|choice| {
        let end = choice.finish_reason.map(|reason| (reason, choice.measured));
        (choice.delta.content.unwrap_or_default(), end)
    });
    Ok(said.collect())
}

fn plain_piece(data: &str) -> Result<Vec<Said>, Failure> {
    let piece: CompletionAnswer = serde_json::from_str(data).map_err(broken)?;
    let said = piece.choices.into_iter().map(|choice| {
        let end = choice.finish_reason.map(|reason| (reason, choice.measured));
        (choice.text, end)
    });
    Ok(said.collect())
}

async fn answer(
    client: &Client,
    path: &str,
    request: &impl Serialize,
    options: &AskOptions,
    piece_of: fn(&str) -> Result<Vec<Said>, Failure>,
) -> Result<(), Failure> {
    let response = client.post(path, request).await?;
    if options.json {
        let answer: Value = response.json().await.map_err(broken)?;
        return json(&answer);
    }
    let simulated = response.headers().get("x-vastrelay-simulated").cloned();
    let mut events = response.bytes_stream().eventsource();
    let mut end = None;
    while let Some(event) = events.next().await {
        let data = event.map_err(broken)?.data;
        if data == "[DONE]" {
            break;
        }
        if let Ok(envelope) = serde_json::from_str::<ErrorEnvelope>(&data) {
            line("");
            return Err(Failure::failed(format!(
                "the answer is incomplete: {}",
                envelope.error.message
            )));
        }
        for (text, ended) in piece_of(&data)? {
            print(&text);
            end = ended.or(end);
        }
    }
    line("");
    let Some((reason, measured)) = end else {
        return Err(Failure::failed("the answer is incomplete: the connection closed"));
    };
    if reason == "length" {
        note("(the answer reached its limit; --max-tokens raises it)");
    }
    if let Some(device) = simulated {
        let device = device.to_str().unwrap_or("a device").to_owned();
        note(format!(
            "(simulated on {device}: the words have no meaning, the times are the cost model's)"
        ));
    }
    if let Some(measured) = measured {
        print_metrics(&measured);
    }
    Ok(())
}

fn print_metrics(measured: &Measured) {
    let ms = |seconds: f64| format!("{:.1} ms", seconds * 1000.0);
    let Measured {
        prompt_tokens,
        reused_tokens,
        output_tokens,
        ..
    } = measured;
    line("");
    if measured.waiting_for_start > 0.0 {
        let start = ms(measured.waiting_for_start);
        line(format!(
            "waiting for start {start:>12}   its endpoint was parked or starting"
        ));
    }
    line(format!("queued            {:>12}", ms(measured.queued)));
    line(format!(
        "prefill           {:>12}   {prompt_tokens} prompt tokens, {reused_tokens} of them reused",
        ms(measured.prefill)
    ));
    line(format!(
        "TTFT              {:>12}   time to first token, from arrival",
        ms(measured.ttft)
    ));
    line(format!(
        "ITL mean          {:>12}   inter-token latency; largest gap {}",
        ms(measured.itl_mean),
        ms(measured.itl_max)
    ));
    let rate = if measured.itl_mean > 0.0 {
        format!("{:.0} tokens/s while decoding", 1.0 / measured.itl_mean)
    } else {
        String::new()
    };
    line(format!(
        "total             {:>12}   {output_tokens} output tokens; {rate}",
        ms(measured.total)
    ));
    line(format!(
        "ended by          {:>12}   preempted {}",
        measured.ended,
        count_of(measured.preemptions as usize, "time")
    ));
}

fn broken<E>(_: E) -> Failure {
    Failure::failed("the answer cannot be read: it broke off, or it is not that of a service of this version")
}
