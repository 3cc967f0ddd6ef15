//! `vastrelay text`.

use super::connection::Connection;
use clap::{Args, Subcommand};

#[derive(Subcommand)]
pub enum TextCommand {
    /// Render a question with the model's chat template
    #[command(after_help = "\
Examples:
  vastrelay text render \"Can I bring my dog?\"")]
    Render(TextOptions),
    /// Count the tokens of a text
    #[command(after_help = "\
Examples:
  vastrelay text count \"Can I bring my dog?\"
  vastrelay text count < letter.txt")]
    Count(TextOptions),
    /// Show the tokens of a text
    #[command(after_help = "\
Examples:
  vastrelay text encode \"Can I bring my dog?\"
  vastrelay text encode --json < letter.txt")]
    Encode(TextOptions),
    /// Show the text of token ids
    #[command(after_help = "\
Examples:
  vastrelay text decode 372 1183 9")]
    Decode(DecodeOptions),
    /// Show the log-probability of each token of a text
    #[command(after_help = "\
Examples:
  vastrelay text score \"The last boat back leaves at 18:00.\"
  vastrelay text score --json < letter.txt")]
    Score(TextOptions),
}

#[derive(Args)]
pub struct TextOptions {
    /// The text; read from standard input if omitted
    #[arg(value_name = "TEXT")]
    pub text: Option<String>,
    /// Model to use [default: the only one served]
    #[arg(long, value_name = "NAME")]
    pub model: Option<String>,
    /// Print JSON
    #[arg(long)]
    pub json: bool,
    #[command(flatten)]
    pub connection: Connection,
}

#[derive(Args)]
pub struct DecodeOptions {
    /// Token ids
    #[arg(value_name = "ID", required = true)]
    pub ids: Vec<u32>,
    /// Model to use [default: the only one served]
    #[arg(long, value_name = "NAME")]
    pub model: Option<String>,
    /// Print JSON
    #[arg(long)]
    pub json: bool,
    #[command(flatten)]
    pub connection: Connection,
}
