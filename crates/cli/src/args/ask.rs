//! `vastrelay ask`.

use super::connection::Connection;
use clap::Args;

#[derive(Args)]
#[command(after_help = "\
Examples:
  vastrelay ask \"When is the last boat back on Sunday?\"
  vastrelay ask --figures \"Can I bring my dog?\"
  echo \"Timetable to Tolsay on Saturday?\" | vastrelay ask
  vastrelay ask --plain 'The last boat back leaves at'
  vastrelay ask --stdin \"Answer this letter:\" < letter.txt
  vastrelay ask --json --seed 7 --temperature 0.8 \"Tell me a joke\"

Ctrl-C stops the answer and cancels the request.")]
pub struct AskOptions {
    /// The question; read from standard input if omitted
    #[arg(value_name = "QUESTION")]
    pub question: Option<String>,
    /// Model to use [default: the only one served]
    #[arg(long, value_name = "NAME")]
    pub model: Option<String>,
    /// System prompt
    #[arg(long, value_name = "TEXT")]
    pub system: Option<String>,
    /// Maximum tokens of the answer [default: the endpoint's; 128 with --plain]
    #[arg(long, value_name = "TOKENS")]
    pub max_tokens: Option<u32>,
    /// Sampling temperature; 0 always picks the most probable token
    #[arg(long, value_name = "NUMBER")]
    pub temperature: Option<f32>,
    /// Sample from the tokens that make up this share of probability
    #[arg(long, value_name = "SHARE")]
    pub top_p: Option<f32>,
    /// Sample from this many of the most probable tokens
    #[arg(long, value_name = "N")]
    pub top_k: Option<u32>,
    /// Exclude tokens below this share of the most probable one
    #[arg(long, value_name = "SHARE")]
    pub min_p: Option<f32>,
    /// Seed for repeatable sampling
    #[arg(long, value_name = "NUMBER")]
    pub seed: Option<i64>,
    /// Stop at this text; repeatable
    #[arg(long, value_name = "TEXT")]
    pub stop: Vec<String>,
    /// Continue the text instead of answering it, without a chat template
    #[arg(long, conflicts_with = "system")]
    pub plain: bool,
    /// Append standard input to the question
    #[arg(long)]
    pub stdin: bool,
    /// Print the whole answer as JSON
    #[arg(long)]
    pub json: bool,
    /// Print timings after the answer
    #[arg(long)]
    pub figures: bool,
    #[command(flatten)]
    pub connection: Connection,
}
