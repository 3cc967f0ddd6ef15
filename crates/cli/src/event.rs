//! `vastrelay event`.

use crate::args::event::{EventCommand, EventListOptions};
use crate::client::Client;
use crate::failure::Failure;
use crate::output::{ago, json, line};
use reqwest::Url;
use std::time::Duration;
use vastrelay_wire::manage::EndpointEvent;

/// Time between two looks at what has happened since.
const LOOK: Duration = Duration::from_millis(500);
/// Most events of one look.
const MOST_OF_LOOK: usize = 1_000;

/// Shows what happened to endpoints.
pub async fn run(command: &EventCommand) -> Result<(), Failure> {
    let EventCommand::List(options) = command;
    let client = Client::new(&options.connection)?;
    let mut events: Vec<EndpointEvent> = client.get(&address(options, options.most, 0)).await?;
    if options.follow {
        return follow(&client, options, events).await;
    }
    if options.json {
        return json(&events);
    }
    if events.is_empty() {
        line("no matching events");
        return Ok(());
    }
    events.iter_mut().for_each(print);
    Ok(())
}

/// Prints events, oldest first, and those that come.
async fn follow(client: &Client, options: &EventListOptions, mut events: Vec<EndpointEvent>) -> Result<(), Failure> {
    let mut last = 0;
    loop {
        events.reverse();
        for event in &mut events {
            last = event.number;
            match options.json {
                true => line(serde_json::to_string(event).map_err(Failure::failed)?),
                false => print(event),
            }
        }
        tokio::time::sleep(LOOK).await;
        events = client.get(&address(options, MOST_OF_LOOK, last)).await?;
    }
}

/// Returns the address that lists what is wanted.
fn address(options: &EventListOptions, most: usize, after: i64) -> String {
    let mut url = Url::parse("http://service/manage/events").expect("an address");
    let within = options.within.map(|time| time.as_secs_f64().to_string());
    let conditions = [
        ("most", Some(most.to_string())),
        ("endpoint", options.endpoint.clone()),
        ("what", options.what.clone()),
        ("within", within),
        ("after", Some(after.to_string())),
    ];
    for (name, value) in conditions {
        if let Some(value) = value {
            url.query_pairs_mut().append_pair(name, &value);
        }
    }
    format!("{}?{}", url.path(), url.query().unwrap_or_default())
}

fn print(event: &mut EndpointEvent) {
    let EndpointEvent {
        endpoint,
        release,
        replica,
        what,
        who,
        why,
        ..
    } = event;
    let replica = match replica {
        0 => String::new(),
        replica => format!(", replica {replica}"),
    };
    let who = match who.as_str() {
        "" | "service" => String::new(),
        who => format!(" by {who}"),
    };
    let whose = match endpoint.as_str() {
        "" => String::new(),
        endpoint => format!("{endpoint} (release {release}{replica})  "),
    };
    line(format!("{:>7} ago  {whose}{what}{who}: {why}", ago(event.seconds_ago)));
}
