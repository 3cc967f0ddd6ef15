//! Runs that are kept: with the service, or in files.

use crate::args::Connection;
use crate::client::Client;
use crate::failure::Failure;
use std::path::Path;
use vastrelay_loadtest::Run;
use vastrelay_loadtest::run::FORM;
use vastrelay_wire::manage::RunEntry;

/// Runs among which names are looked for.
const MOST_SEARCHED: usize = 200;

/// Keeps a run with the service.
pub async fn keep(client: &Client, run: &Run) -> Result<(), Failure> {
    let entry = RunEntry {
        id: run.id.clone(),
        at_ms: run.begun_ms,
        run: serde_json::to_value(run).map_err(Failure::failed)?,
    };
    let _: RunEntry = client.post_for("/manage/runs", &entry).await?;
    Ok(())
}

/// Returns the newest runs, newest first.
pub async fn latest(client: &Client, most: usize) -> Result<Vec<Run>, Failure> {
    let entries: Vec<RunEntry> = client.get(&format!("/manage/runs?most={most}")).await?;
    entries.into_iter().map(|entry| read(&entry.id, entry.run)).collect()
}

/// Returns a run by its file, its id, its name, or as the last one.
pub async fn find(connection: &Connection, wanted: &str) -> Result<Run, Failure> {
    if wanted.ends_with(".json") || Path::new(wanted).is_file() {
        let text = std::fs::read(wanted).map_err(|e| Failure::failed(format!("cannot read {wanted}: {e}")))?;
        let value = serde_json::from_slice(&text).map_err(|e| Failure::failed(format!("{wanted} is no run: {e}")))?;
        return read(wanted, value);
    }
    let client = Client::new(connection)?;
    let most = if wanted == "last" { 1 } else { MOST_SEARCHED };
    let runs = latest(&client, most).await?;
    let found = runs
        .into_iter()
        .find(|run| wanted == "last" || run.id == wanted || run.name == wanted);
    found.ok_or_else(|| {
        Failure::failed(format!(
            "there is no run `{wanted}`; `vastrelay load list` shows those there are"
        ))
    })
}

fn read(name: &str, value: serde_json::Value) -> Result<Run, Failure> {
    let form = value["form"].as_u64();
    if form.is_some_and(|form| form != u64::from(FORM)) {
        let text = format!(
            "{name} is a run of form {}; this version reads form {FORM}",
            form.unwrap_or(0)
        );
        return Err(Failure::failed(text));
    }
    serde_json::from_value(value).map_err(|e| Failure::failed(format!("{name} is no run: {e}")))
}
