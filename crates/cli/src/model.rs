//! `vastrelay model`.

mod build;
mod inspect;

use crate::args::model::ModelCommand;
use crate::failure::Failure;

/// Looks at models, and converts them.
pub fn run(command: &ModelCommand) -> Result<(), Failure> {
    match command {
        ModelCommand::Inspect(options) => inspect::run(options),
        ModelCommand::Build(options) => build::run(options),
    }
}
