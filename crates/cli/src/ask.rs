//! `vastrelay ask`.

use crate::args::ask::AskOptions;
use crate::client::Client;
use crate::failure::Failure;
use crate::output::{json, line, print};
use crate::plain::note;
use eventsource_stream::Eventsource;
use futures_util::StreamExt;
use std::io::{IsTerminal, Read};
use vastrelay_wire::chat::{ChatAnswer, ChatMessage, ChatPiece, ChatRequest, Content};
use vastrelay_wire::error::ErrorEnvelope;
use vastrelay_wire::sampling::{Include, Measured, Stop};

/// Asks, and prints the answer as it comes.
pub async fn run(options: &AskOptions) -> Result<(), Failure> {
    let question = question(options)?;
    let client = Client::new(&options.connection)?;
    let model = client.model_or_only(options.model.as_ref()).await?;
    let request = request(options, model, question);
    tokio::select! {
        outcome = answer(&client, &request, options) => outcome,
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
    std::io::stdin()
        .read_to_string(&mut piped)
        .map_err(|e| Failure::failed(format!("cannot read standard input: {e}")))?;
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

async fn answer(client: &Client, request: &ChatRequest, options: &AskOptions) -> Result<(), Failure> {
    let response = client.post("/v1/chat/completions", request).await?;
    if options.json {
        let answer: ChatAnswer = response.json().await.map_err(broken)?;
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
        let piece: ChatPiece = serde_json::from_str(&data).map_err(broken)?;
        for choice in piece.choices {
            let text = choice.delta.content.unwrap_or_default();
            print(&text);
            if let Some(reason) = choice.finish_reason {
                end = Some((reason, choice.measured));
            }
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
        "ended by          {:>12}   preempted {} times",
        measured.ended, measured.preemptions
    ));
}

fn broken(error: impl std::fmt::Display) -> Failure {
    Failure::failed(format!("the answer cannot be read: {error}"))
}
