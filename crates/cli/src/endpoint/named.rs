//! What is named at the command line, in the service's words.

use crate::args::endpoint::named_path;
use crate::failure::Failure;
use crate::spec_file::SpecFile;
use std::path::Path;
use vastrelay_wire::manage::NewEndpoint;

/// Returns what a spec or a model is in the service's words.
pub fn named(what: &str) -> Result<NewEndpoint, Failure> {
    if what.ends_with(".toml") {
        return described(Path::new(what));
    }
    let (name, path) = named_path(what).map_err(|error| {
        Failure::usage(format!(
            "`{what}` is neither a spec, which ends in .toml, nor a model: {error}"
        ))
    })?;
    // The service may run in another folder than this command.
    let path = std::path::absolute(path).map_err(Failure::usage)?;
    Ok(NewEndpoint {
        name,
        path: Some(path.display().to_string()),
        ..NewEndpoint::default()
    })
}

/// Returns what a spec is in the service's words.
fn described(file: &Path) -> Result<NewEndpoint, Failure> {
    let SpecFile { name, text, beside } = SpecFile::read(file).map_err(Failure::usage)?;
    Ok(NewEndpoint {
        name,
        spec: Some(text),
        beside: Some(beside.display().to_string()),
        ..NewEndpoint::default()
    })
}
