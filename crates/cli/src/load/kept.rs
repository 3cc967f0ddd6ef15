//! Runs that are kept: with the service, or in files.

use crate::args::connection::Connection;
use crate::client::Client;
use crate::failure::Failure;
use std::path::Path;
use vastrelay_loadtest::Run;
use vastrelay_wire::manage::RunEntry;

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

/// Returns the newest runs, newest first, without their requests and samples.
pub async fn latest(client: &Client, most: usize) -> Result<Vec<Run>, Failure> {
    let entries: Vec<RunEntry> = client.get(&format!("/manage/runs?short=true&most={most}")).await?;
    entries.into_iter().map(|entry| read(&entry.id, entry.run)).collect()
}

/// Returns the id of the newest run of a name, or of any name.
async fn newest(client: &Client, name: Option<&str>) -> Result<Option<String>, Failure> {
    let mut url = reqwest::Url::parse("http://service/manage/runs?short=true&most=1").expect("an address");
    if let Some(name) = name {
        url.query_pairs_mut().append_pair("name", name);
    }
    let path = format!("{}?{}", url.path(), url.query().unwrap_or_default());
    let entries: Vec<RunEntry> = client.get(&path).await?;
    Ok(entries.into_iter().next().map(|entry| entry.id))
}

/// Returns a run by its file, its id, its name, or as the last one.
pub async fn find(connection: &Connection, wanted: &str) -> Result<Run, Failure> {
    if wanted.ends_with(".json") || Path::new(wanted).is_file() {
        let text = std::fs::read(wanted).map_err(|e| Failure::failed(format!("cannot read {wanted}: {e}")))?;
        let value =
            serde_json::from_slice(&text).map_err(|e| Failure::failed(format!("{wanted} is not a run: {e}")))?;
        return read(wanted, value);
    }
    let found = entry(&Client::new(connection)?, wanted).await?;
    read(&found.id, found.run)
}

/// Returns a run that the service has, by its id, its name, or as the last one.
pub async fn entry(client: &Client, wanted: &str) -> Result<RunEntry, Failure> {
    let named = match wanted {
        "last" => newest(client, None).await?,
        name => newest(client, Some(name)).await?,
    };
    let id = named.unwrap_or_else(|| wanted.to_owned());
    let found: Option<RunEntry> = client.get_if_there(&path(&id)).await?;
    found.ok_or_else(|| {
        Failure::failed(format!(
            "there is no run `{wanted}`; `vastrelay load list` shows all runs"
        ))
    })
}

/// Returns the address of a run.
pub fn path(id: &str) -> String {
    let mut url = reqwest::Url::parse("http://service/manage/runs/").expect("an address");
    if let Ok(mut path) = url.path_segments_mut() {
        path.pop_if_empty().push(id);
    }
    url.path().to_owned()
}

fn read(name: &str, document: serde_json::Value) -> Result<Run, Failure> {
    Run::of(document).map_err(|error| Failure::failed(format!("{name} is not a run that can be read: {error}")))
}
