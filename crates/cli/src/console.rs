//! `vastrelay console`.

use crate::args::console::ConsoleOptions;
use crate::client::Client;
use crate::failure::Failure;
use crate::output::{json, line};
use crate::plain::note;
use serde_json::json;
use vastrelay_wire::keys::ConsoleCode;

/// Prints a link that begins a session of the console.
pub async fn run(options: &ConsoleOptions) -> Result<(), Failure> {
    let client = Client::new(&options.connection)?;
    let made: ConsoleCode = client.post_for("/manage/console", &json!({})).await?;
    let link = console_link(client.url(), &made.code);
    if options.json {
        return json(&json!({"url": link, "expires_in": made.expires_in}));
    }
    line(link);
    note(format!("The link works once, within {} s.", made.expires_in));
    Ok(())
}

/// Returns the address that begins a session. The code is in the fragment, which browsers do not send.
pub fn console_link(url: &str, code: &str) -> String {
    format!("{url}/console#code={code}")
}
