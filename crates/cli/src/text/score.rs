//! `vastrelay text score`: how likely a text is, token by token.

use super::text;
use crate::args::text::TextOptions;
use crate::client::Client;
use crate::failure::Failure;
use crate::output::{json, line};
use serde::Serialize;
use vastrelay_wire::completion::{CompletionAnswer, CompletionLogprobs, CompletionRequest, Prompt};

/// A scored text.
#[derive(Serialize)]
struct TextScore {
    tokens: Vec<TokenScore>,
    /// Tokens that have a probability: all but the first.
    scored: usize,
    /// Mean of their negated log-probabilities, in nats.
    loss: f64,
    /// Exponential of the loss.
    perplexity: f64,
    /// How many of them were the most likely in their place.
    were_likeliest: usize,
}

#[derive(Serialize)]
struct TokenScore {
    token: String,
    /// Where it begins, in characters.
    offset: usize,
    /// Natural logarithm of its probability; none of the first, as nothing comes before it.
    logprob: Option<f32>,
    /// The most likely token in its place.
    likeliest: Option<Likeliest>,
}

#[derive(Serialize)]
struct Likeliest {
    token: String,
    logprob: f32,
}

/// Scores a text.
pub(super) async fn run(options: &TextOptions) -> Result<(), Failure> {
    let client = Client::new(&options.connection)?;
    let model = client.model_or_only(options.model.as_ref()).await?;
    let request = CompletionRequest {
        echo: Some(true),
        logprobs: Some(1),
        max_tokens: Some(0),
        ..CompletionRequest::new(model, Prompt::Text(text(options)?))
    };
    let answer: CompletionAnswer = client.post_for("/v1/completions", &request).await?;
    let lists = answer.choices.into_iter().next().and_then(|choice| choice.logprobs);
    let score = TextScore::of(lists.ok_or_else(|| Failure::failed("the service told no log-probabilities"))?);
    if options.json {
        return json(&score);
    }
    score.print();
    Ok(())
}

impl TextScore {
    fn of(lists: CompletionLogprobs) -> TextScore {
        let likeliest = lists.top_logprobs.into_iter().map(|top| {
            let (token, logprob) = top?.into_iter().next()?;
            Some(Likeliest { token, logprob })
        });
        let names = lists.tokens.into_iter().zip(lists.text_offset);
        let tokens: Vec<TokenScore> = names
            .zip(lists.token_logprobs)
            .zip(likeliest)
            .map(|(((token, offset), logprob), likeliest)| TokenScore {
                token,
                offset,
                logprob,
                likeliest,
            })
            .collect();
        let losses: Vec<f64> = tokens
            .iter()
            .filter_map(|token| token.logprob)
            .map(|l| -f64::from(l))
            .collect();
        let loss = losses.iter().sum::<f64>() / losses.len().max(1) as f64;
        TextScore {
            were_likeliest: tokens.iter().filter(|token| token.is_likeliest()).count(),
            scored: losses.len(),
            loss,
            perplexity: loss.exp(),
            tokens,
        }
    }

    fn print(&self) {
        line("probability  token                     more likely");
        for token in &self.tokens {
            let share = token.logprob.map_or_else(|| "–".into(), percent);
            let other = token.likeliest.as_ref().filter(|_| !token.is_likeliest());
            let other = other.map(|other| format!("{:?} {}", other.token, percent(other.logprob)));
            let row = format!(
                "{share:>11}  {:<24}  {}",
                format!("{:?}", token.token),
                other.unwrap_or_default()
            );
            line(row.trim_end());
        }
        if self.scored == 0 {
            return line("\none token alone has no probability: nothing comes before it");
        }
        line(format!(
            "\nloss {:.3} nats a token over {} tokens, perplexity {:.2}; the likeliest token in {} of {} places",
            self.loss, self.scored, self.perplexity, self.were_likeliest, self.scored
        ));
    }
}

impl TokenScore {
    fn is_likeliest(&self) -> bool {
        self.likeliest
            .as_ref()
            .is_some_and(|likeliest| self.logprob >= Some(likeliest.logprob))
    }
}

fn percent(logprob: f32) -> String {
    match logprob.exp() * 100.0 {
        share if share < 0.05 => "< 0.1 %".into(),
        share => format!("{share:.1} %"),
    }
}
