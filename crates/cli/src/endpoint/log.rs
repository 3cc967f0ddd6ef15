//! `vastrelay endpoint log`.

use crate::args::endpoint::EndpointLogOptions;
use crate::client::Client;
use crate::failure::Failure;
use crate::output::{json, line};
use std::time::Duration;
use vastrelay_wire::manage::LogLine;

/// Time between two looks at what was said since.
const LOOK: Duration = Duration::from_millis(500);
/// Lines of one look.
const MOST_OF_LOOK: usize = 1_000;

/// Prints the output of an endpoint's workers and of conversions of its model.
pub async fn log(options: &EndpointLogOptions) -> Result<(), Failure> {
    let client = Client::new(&options.connection)?;
    let path = |most: usize| format!("/manage/endpoints/{}/log?most={most}", options.name);
    let mut lines: Vec<LogLine> = client.get(&path(options.most)).await?;
    if options.json {
        return json(&lines);
    }
    lines.iter().for_each(print);
    if lines.is_empty() && !options.follow {
        line("its workers and builds have printed nothing yet");
    }
    if !options.follow {
        return Ok(());
    }
    loop {
        tokio::time::sleep(LOOK).await;
        let now: Vec<LogLine> = client.get(&path(MOST_OF_LOOK)).await?;
        fresh(&lines, &now).iter().for_each(print);
        lines = now;
    }
}

/// Returns the lines that come after the last one of before.
fn fresh<'a>(before: &[LogLine], now: &'a [LogLine]) -> &'a [LogLine] {
    let known = before.last().and_then(|last| now.iter().rposition(|line| line == last));
    &now[known.map_or(0, |place| place + 1)..]
}

fn print(said: &LogLine) {
    match said.incarnation {
        0 => line(format!("build: {}", said.line)),
        life => line(format!("replica {}, life {life}: {}", said.replica, said.line)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_was_told_is_not_told_again() {
        let said = |words: &[&str]| -> Vec<LogLine> {
            let line = |(at, word): (usize, &&str)| LogLine {
                at_ms: at as i64,
                replica: 1,
                incarnation: 1,
                line: (*word).into(),
            };
            words.iter().enumerate().map(line).collect()
        };
        let (before, now) = (said(&["a", "b"]), said(&["a", "b", "c"]));
        assert_eq!(fresh(&before, &now), &now[2..]);
        assert_eq!(fresh(&[], &now), &now[..]);
        assert_eq!(fresh(&now, &now), &[]);
    }
}
