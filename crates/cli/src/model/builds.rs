//! `vastrelay model builds`.

use crate::args::model::ModelBuildsOptions;
use crate::client::Client;
use crate::failure::Failure;
use crate::output::{ago, json, line};
use comfy_table::{CellAlignment, Table, presets};
use vastrelay_planner::amounts::bytes;
use vastrelay_wire::manage::BuildEntry;

/// Lists what a service has converted.
pub async fn run(options: &ModelBuildsOptions) -> Result<(), Failure> {
    let builds: Vec<BuildEntry> = Client::new(&options.connection)?.get("/manage/builds").await?;
    if options.json {
        return json(&builds);
    }
    if builds.is_empty() {
        line("no builds; one is made when a model is served on the cpu for the first time");
        return Ok(());
    }
    let mut table = Table::new();
    table
        .load_preset(presets::NOTHING)
        .set_header(["build", "ago", "size", "weights", "users", "source"]);
    for build in &builds {
        table.add_row([
            build.digest.chars().take(12).collect(),
            ago(build.seconds_ago),
            bytes(build.bytes as usize),
            build.precision.clone(),
            build.users.join(", "),
            build.source.clone(),
        ]);
    }
    for number in [1, 2] {
        if let Some(column) = table.column_mut(number) {
            column.set_cell_alignment(CellAlignment::Right);
        }
    }
    line(format!("{table}"));
    Ok(())
}
