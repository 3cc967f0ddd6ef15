//! What goes to standard output.

use crate::failure::Failure;
use crate::plain::{is_command, plain};
use ratatui::crossterm;
use std::io::{ErrorKind, IsTerminal, Write};
use vastrelay_serving::Precision;
use vastrelay_wire::manage::{ReplicaStatus, RestingEndpoint};

/// Returns the text about a replica that is not ready.
pub fn state(replica: &ReplicaStatus) -> Option<String> {
    match replica.state.as_str() {
        "ready" => None,
        "starting" => Some(format!(
            "starting: {}",
            replica.phase.as_deref().unwrap_or("starting worker")
        )),
        "draining" => Some("draining: it takes no more requests, and those that it has end".into()),
        _ => Some(format!(
            "FAILED: {}",
            replica.failure.as_deref().unwrap_or("its worker is gone")
        )),
    }
}

/// Returns what is to be said of an endpoint that is not served.
pub fn resting(endpoint: &RestingEndpoint) -> String {
    let RestingEndpoint {
        name,
        state,
        why,
        seconds,
    } = endpoint;
    format!("{name}: {state} for {}: {why}", ago(*seconds))
}

/// Returns the columns of the terminal, or those that `COLUMNS` tells; 100 when nothing tells.
pub fn columns() -> usize {
    let told = std::env::var("COLUMNS").ok().and_then(|columns| columns.parse().ok());
    let terminal = || {
        std::io::stdout()
            .is_terminal()
            .then(|| crossterm::terminal::size().ok())
            .flatten()
    };
    told.or_else(|| terminal().map(|(columns, _)| usize::from(columns)))
        .unwrap_or(100)
}

/// Prints text at once. When the reader has gone, as `head` does, the program ends quietly.
pub fn print(text: &str) {
    let mut out = std::io::stdout().lock();
    if let Err(error) = out.write_all(plain(text).as_bytes()).and_then(|()| out.flush()) {
        std::process::exit(if error.kind() == ErrorKind::BrokenPipe { 0 } else { 1 });
    }
}

/// Prints a line at once.
pub fn line(text: impl AsRef<str>) {
    print(&format!("{}\n", text.as_ref()));
}

/// Prints a value as JSON for programs, which is safe on a terminal, too.
pub fn json(value: &impl serde::Serialize) -> Result<(), Failure> {
    let text = serde_json::to_string_pretty(value).map_err(Failure::failed)?;
    let escaped = text.chars().map(|c| match is_command(c) {
        // Within JSON such characters stand in strings only.
        true => format!("\\u{:04x}", u32::from(c)),
        false => c.to_string(),
    });
    line(escaped.collect::<String>());
    Ok(())
}

/// Returns a while in one unit.
pub fn ago(seconds: f64) -> String {
    match seconds.max(0.0) as u64 {
        s if s < 100 => format!("{s} s"),
        s if s < 6_000 => format!("{} min", s / 60),
        s if s < 48 * 3_600 => format!("{} h", s / 3_600),
        s => format!("{} d", s / 86_400),
    }
}

/// Returns a duration as reports have it; nothing is a dash.
pub fn duration(seconds: f64) -> String {
    match seconds {
        0.0 => "–".into(),
        seconds => vastrelay_loadtest::report::duration(seconds),
    }
}

/// Says over how many shards a model is split, where it is.
fn shards(split: usize) -> String {
    if split > 1 {
        format!(", split {split}")
    } else {
        String::new()
    }
}

/// Returns the name of a precision for people.
pub fn precision_name(weights: &str, group: Option<usize>) -> String {
    // A later service may have others.
    Precision::of(weights, group).map_or_else(|_| weights.to_owned(), |precision| precision.to_string())
}

/// Returns the name of a device for people: a simulated one says so.
pub fn device_name(device: &str, simulated: bool) -> String {
    if simulated {
        format!("{device} (simulated)")
    } else {
        device.to_owned()
    }
}

/// Returns a number of cores, for people.
pub fn cores_name(cores: f64) -> String {
    if cores == 1.0 {
        "1 core".into()
    } else {
        format!("{} cores", hundredths(cores))
    }
}

/// Returns a price; one without a currency is in the unit of its device's profile.
pub fn price(amount: f64, currency: Option<&str>) -> String {
    let unit = currency.map_or(String::new(), |currency| format!(" {currency}"));
    format!("{amount:.2}{unit}")
}

/// Returns a number with two decimals at most.
pub fn hundredths(number: f64) -> f64 {
    (number * 100.0).round() / 100.0
}

/// Returns where a replica runs, for people: cores with their instructions, or simulated devices.
pub fn place_name(device: &str, simulated: bool, replica: &ReplicaStatus) -> String {
    let name = device_name(device, simulated);
    if simulated {
        return format!("{} × {name}", replica.split);
    }
    format!(
        "{name} ({}, {}{})",
        cores_name(replica.cores),
        replica.instructions,
        shards(replica.split)
    )
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn nothing_that_a_terminal_obeys_is_printed() {
        assert_eq!(plain("plain, é, 日本\n\tindented"), "plain, é, 日本\n\tindented");
        assert_eq!(
            plain("a\u{1b}[2Jb\rc\u{9b}d\u{202e}e\u{7f}"),
            "a\\u{1b}[2Jb\\u{d}c\\u{9b}d\\u{202e}e\\u{7f}"
        );
    }
}
