//! `vastrelay text`.

mod score;

use crate::args::text::{DecodeOptions, TextCommand, TextOptions};
use crate::ask::piped;
use crate::client::Client;
use crate::failure::Failure;
use crate::output::{json, line};
use std::io::IsTerminal;
use vastrelay_planner::amounts::grouped;
use vastrelay_wire::chat::{ChatMessage, Content};
use vastrelay_wire::text::{
    CountAnswer, DecodeAnswer, DecodeRequest, EncodeAnswer, EncodeRequest, RenderAnswer, RenderRequest,
};

/// Shows what a model would get.
pub async fn run(command: &TextCommand) -> Result<(), Failure> {
    match command {
        TextCommand::Render(options) => render(options).await,
        TextCommand::Count(options) => count(options).await,
        TextCommand::Encode(options) => encode(options).await,
        TextCommand::Decode(options) => decode(options).await,
        TextCommand::Score(options) => score::run(options).await,
    }
}

async fn render(options: &TextOptions) -> Result<(), Failure> {
    let client = Client::new(&options.connection)?;
    let question = ChatMessage {
        role: "user".into(),
        content: Some(Content::Text(text(options)?)),
        ..ChatMessage::default()
    };
    let request = RenderRequest {
        model: client.model_or_only(options.model.as_ref()).await?,
        messages: vec![question],
        answer_start: None,
    };
    let answer: RenderAnswer = client.post_for("/text/render", &request).await?;
    if options.json {
        return json(&answer);
    }
    line(&answer.text);
    line(format!("\n{} tokens", grouped(answer.token_ids.len())));
    Ok(())
}

async fn count(options: &TextOptions) -> Result<(), Failure> {
    let client = Client::new(&options.connection)?;
    let answer: CountAnswer = client
        .post_for("/text/count", &encoding(&client, options).await?)
        .await?;
    if options.json {
        return json(&answer);
    }
    line(format!(
        "{} tokens; {} of {} are left for the answer",
        grouped(answer.tokens),
        grouped(answer.left),
        grouped(answer.context)
    ));
    Ok(())
}

async fn encode(options: &TextOptions) -> Result<(), Failure> {
    let client = Client::new(&options.connection)?;
    let answer: EncodeAnswer = client
        .post_for("/text/encode", &encoding(&client, options).await?)
        .await?;
    if options.json {
        return json(&answer);
    }
    for (id, token) in answer.token_ids.iter().zip(&answer.tokens) {
        line(format!("{id:>7}  {token:?}"));
    }
    Ok(())
}

async fn decode(options: &DecodeOptions) -> Result<(), Failure> {
    let client = Client::new(&options.connection)?;
    let request = DecodeRequest {
        model: client.model_or_only(options.model.as_ref()).await?,
        token_ids: options.ids.clone(),
    };
    let answer: DecodeAnswer = client.post_for("/text/decode", &request).await?;
    if options.json {
        return json(&answer);
    }
    line(&answer.text);
    Ok(())
}

async fn encoding(client: &Client, options: &TextOptions) -> Result<EncodeRequest, Failure> {
    Ok(EncodeRequest {
        model: client.model_or_only(options.model.as_ref()).await?,
        text: Some(text(options)?),
        messages: None,
    })
}

fn text(options: &TextOptions) -> Result<String, Failure> {
    match &options.text {
        Some(text) => Ok(text.clone()),
        None if std::io::stdin().is_terminal() => Err(Failure::usage("no text; type one or pipe one in")),
        None => piped(),
    }
}
