//! `vastrelay job`.

use crate::args::job::{JobCommand, JobListOptions, JobOptions};
use crate::client::Client;
use crate::failure::Failure;
use crate::output::{ago, duration, json, line};
use crate::plain::note;
use comfy_table::{CellAlignment, Table, presets};
use std::time::Duration;
use vastrelay_wire::manage::JobEntry;

/// Time between two looks at how a job gets on.
const LOOK: Duration = Duration::from_millis(250);

/// Looks at long work of the service.
pub async fn run(command: &JobCommand) -> Result<(), Failure> {
    match command {
        JobCommand::List(options) => list(options).await,
        JobCommand::Show(options) => show(options).await,
        JobCommand::Follow(options) => follow(options).await,
        JobCommand::Cancel(options) => cancel(options).await,
    }
}

async fn list(options: &JobListOptions) -> Result<(), Failure> {
    let kind = options
        .kind
        .as_ref()
        .map_or_else(String::new, |kind| format!("&kind={kind}"));
    let path = format!("/manage/jobs?most={}{kind}", options.most);
    let jobs: Vec<JobEntry> = Client::new(&options.connection)?.get(&path).await?;
    if options.json {
        return json(&jobs);
    }
    if jobs.is_empty() {
        line("no jobs yet");
        return Ok(());
    }
    let mut table = Table::new();
    table
        .load_preset(presets::NOTHING)
        .set_header(["job", "ago", "kind", "what", "endpoint", "state", "took", "outcome"]);
    for job in &jobs {
        table.add_row([
            job.number.to_string(),
            ago(job.seconds_ago),
            job.kind.clone(),
            job.name.clone(),
            job.endpoint.clone(),
            state(job),
            duration(job.seconds),
            job.outcome.clone(),
        ]);
    }
    for number in [0, 1, 6] {
        if let Some(column) = table.column_mut(number) {
            column.set_cell_alignment(CellAlignment::Right);
        }
    }
    line(format!("{table}"));
    Ok(())
}

async fn show(options: &JobOptions) -> Result<(), Failure> {
    let job = one(&Client::new(&options.connection)?, options.number).await?;
    if options.json {
        return json(&job);
    }
    print(&job);
    job.log.iter().for_each(|log| line(format!("\n{}", log.trim_end())));
    Ok(())
}

async fn follow(options: &JobOptions) -> Result<(), Failure> {
    let client = Client::new(&options.connection)?;
    let mut last = String::new();
    loop {
        let job = one(&client, options.number).await?;
        if is_over(&job) {
            match options.json {
                true => json(&job)?,
                false => print(&job),
            }
            return match job.state.as_str() {
                "done" => Ok(()),
                state => Err(Failure::failed(format!(
                    "job {} is {state}: {}",
                    job.number, job.outcome
                ))),
            };
        }
        let now = state(&job);
        if now != last && !options.json {
            note(format!("job {}, {}: {now}", job.number, job.kind));
            last = now;
        }
        tokio::time::sleep(LOOK).await;
    }
}

async fn cancel(options: &JobOptions) -> Result<(), Failure> {
    let client = Client::new(&options.connection)?;
    let job: JobEntry = client.delete(&format!("/manage/jobs/{}", options.number)).await?;
    if options.json {
        return json(&job);
    }
    line(format!(
        "cancelling job {}, {} of {}",
        job.number,
        job.kind,
        about(&job)
    ));
    Ok(())
}

async fn one(client: &Client, number: i64) -> Result<JobEntry, Failure> {
    client.get(&format!("/manage/jobs/{number}")).await
}

fn print(job: &JobEntry) {
    let endpoint = match job.endpoint.as_str() {
        "" => String::new(),
        endpoint => format!(" for {endpoint}"),
    };
    let who = match job.who.as_str() {
        "" => String::new(),
        who => format!(" by {who}"),
    };
    let name = match job.name.as_str() {
        "" => String::new(),
        name => format!(" {name}"),
    };
    line(format!("job {}: {}{name}{endpoint}{who}", job.number, job.kind));
    line(format!("  {} after {}", state(job), duration(job.seconds)));
    if !job.outcome.is_empty() {
        line(format!("  {}", job.outcome));
    }
}

/// Returns what a job is about.
fn about(job: &JobEntry) -> &str {
    match job.name.as_str() {
        "" => &job.endpoint,
        name => name,
    }
}

/// Returns whether nothing more comes of a job.
pub fn is_over(job: &JobEntry) -> bool {
    !matches!(job.state.as_str(), "queued" | "running")
}

/// Returns a job's state, with how far it is.
pub fn state(job: &JobEntry) -> String {
    let part = job.part.filter(|_| !is_over(job));
    let part = part.map_or_else(String::new, |part| format!(" {:.0} %", 100.0 * part));
    let left = job.seconds_left.filter(|_| !is_over(job));
    let left = left.map_or_else(String::new, |left| format!(", about {} left", ago(left)));
    format!("{}{part}{left}", job.state)
}
