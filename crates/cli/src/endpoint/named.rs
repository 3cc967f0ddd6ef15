//! Specs and models from the command line, as requests to the service.

use crate::args::endpoint::{endpoint_name, named_path};
use crate::failure::Failure;
use crate::plain::note;
use crate::spec_file::SpecFile;
use std::path::{Path, PathBuf};
use vastrelay_files::reason;
use vastrelay_wire::manage::NewEndpoint;

/// Returns what a spec or a model is in the service's words.
pub fn named(what: &str) -> Result<NewEndpoint, Failure> {
    if what.ends_with(".toml") {
        return described(Path::new(what));
    }
    let (name, path) = match what.contains('=') {
        true => named_path(what).map_err(|error| Failure::usage(format!("`{what}`: {error}")))?,
        false => path_alone(what)?,
    };
    // The service may run in another folder than this command.
    let path = std::path::absolute(path).map_err(|error| Failure::usage(reason(&error)))?;
    Ok(NewEndpoint {
        name,
        path: Some(path.display().to_string()),
        ..NewEndpoint::default()
    })
}

/// Returns a model that is named by its path alone; the endpoint is called as its folder or file.
fn path_alone(what: &str) -> Result<(String, PathBuf), Failure> {
    let path = Path::new(what);
    if !path.exists() {
        let is_name = endpoint_name(what).is_ok() && !what.contains('.');
        return Err(Failure::usage(match is_name {
            true => format!(
                "`{what}` says no model: write {what}=PATH or the file of a spec; `vastrelay endpoint start {what}` serves an endpoint \
                 again that is stopped or parked, `--release N` an earlier release"
            ),
            false => format!(
                "there is no file or folder `{what}`; write NAME=PATH, or the file of a spec, which ends in .toml"
            ),
        }));
    }
    let absolute = std::path::absolute(path).map_err(|error| Failure::usage(reason(&error)))?;
    let name = match absolute.is_dir() {
        true => absolute.file_name(),
        false => absolute.file_stem(),
    };
    let name = name.unwrap_or_default().to_string_lossy().to_lowercase();
    match endpoint_name(&name) {
        Ok(name) => {
            note(format!(
                "the endpoint is called `{name}`; NAME=PATH gives it another name"
            ));
            Ok((name, absolute))
        }
        Err(error) => Err(Failure::usage(format!(
            "`{what}` gives the endpoint no name ({error}); write NAME={what}"
        ))),
    }
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
