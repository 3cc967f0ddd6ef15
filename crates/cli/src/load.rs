//! `vastrelay load`.

mod kept;
mod print;
mod send;

use crate::args::load::{LoadCommand, LoadCompareOptions, LoadListOptions, LoadRemoveOptions, LoadShowOptions};
use crate::client::Client;
use crate::failure::Failure;
use crate::output::json;
use crate::plain::note;
use std::path::{Path, PathBuf};
use vastrelay_loadtest::compare::compare;
use vastrelay_loadtest::{Run, report};
use vastrelay_wire::manage::RemovedRun;

/// Sends load, or looks at what was sent before.
pub async fn run(command: &LoadCommand) -> Result<(), Failure> {
    match command {
        LoadCommand::Run(options) => send::run(options).await,
        LoadCommand::List(options) => list(options).await,
        LoadCommand::Show(options) => show(options).await,
        LoadCommand::Compare(options) => compare_two(options).await,
        LoadCommand::Remove(options) => remove(options).await,
    }
}

async fn list(options: &LoadListOptions) -> Result<(), Failure> {
    let runs = kept::latest(&Client::new(&options.connection)?, options.most).await?;
    if options.json {
        // Without the single requests, which are many.
        let short: Vec<serde_json::Value> = runs
            .iter()
            .map(|run| {
                serde_json::json!({"id": run.id, "name": run.name, "begun_ms": run.begun_ms, "workload": run.workload, "summary": run.summary})
            })
            .collect();
        return json(&short);
    }
    print::list(&runs);
    Ok(())
}

async fn show(options: &LoadShowOptions) -> Result<(), Failure> {
    let run = kept::find(&options.connection, &options.run).await?;
    write_all(&run, &options.out)?;
    if options.json {
        return json(&run.summary);
    }
    print::run(&run);
    Ok(())
}

async fn compare_two(options: &LoadCompareOptions) -> Result<(), Failure> {
    let a = kept::find(&options.connection, &options.a).await?;
    let b = kept::find(&options.connection, &options.b).await?;
    let comparison = compare(&a, &b);
    if options.json {
        return json(&comparison);
    }
    print::comparison(&comparison);
    Ok(())
}

async fn remove(options: &LoadRemoveOptions) -> Result<(), Failure> {
    let client = Client::new(&options.connection)?;
    // All names are looked up first: two names of one run, or a wrong one, remove nothing.
    let mut found = Vec::new();
    for wanted in &options.runs {
        let run = kept::entry(&client, wanted).await?;
        if !found.contains(&run.id) {
            found.push(run.id);
        }
    }
    for id in &found {
        let _: RemovedRun = client.delete(&kept::path(id)).await?;
        if !options.json {
            note(format!("removed run {id}"));
        }
    }
    match options.json {
        true => json(&found),
        false => Ok(()),
    }
}

/// Makes sure before a run that its reports can be written in the forms that their names tell.
fn check_forms(files: &[PathBuf]) -> Result<(), Failure> {
    for file in files {
        form(file)?;
        let folder = file.parent().filter(|folder| !folder.as_os_str().is_empty());
        if folder.is_some_and(|folder| !folder.is_dir()) {
            return Err(Failure::usage(format!(
                "the folder of {} does not exist",
                file.display()
            )));
        }
    }
    Ok(())
}

fn write_all(run: &Run, files: &[PathBuf]) -> Result<(), Failure> {
    check_forms(files)?;
    for file in files {
        let text = form(file)?(run).map_err(Failure::failed)?;
        std::fs::write(file, text).map_err(|e| Failure::failed(format!("cannot write {}: {e}", file.display())))?;
        note(format!("wrote {}", file.display()));
    }
    Ok(())
}

type Form = fn(&Run) -> Result<String, String>;

fn form(file: &Path) -> Result<Form, Failure> {
    match file.extension().and_then(|extension| extension.to_str()) {
        Some("html") => Ok(report::html),
        Some("csv") => Ok(report::csv),
        Some("json") => Ok(|run| serde_json::to_string(run).map_err(|e| e.to_string())),
        _ => Err(Failure::usage(format!(
            "{} has an unknown format; use a name that ends in .html, .csv or .json",
            file.display()
        ))),
    }
}
