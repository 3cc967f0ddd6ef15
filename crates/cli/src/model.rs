//! `vastrelay model`.

mod build;
mod builds;
mod inspect;

use crate::args::model::ModelCommand;
use crate::failure::Failure;
use tokio::runtime::Runtime;

/// Looks at models, and converts them.
pub fn run(runtime: &Runtime, command: &ModelCommand) -> Result<(), Failure> {
    match command {
        ModelCommand::Inspect(options) => inspect::run(options),
        ModelCommand::Build(options) => build::run(options),
        ModelCommand::Builds(options) => runtime.block_on(builds::run(options)),
    }
}
