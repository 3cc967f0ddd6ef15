//! `vastrelay endpoint new`.

use crate::args::endpoint::EndpointNewOptions;
use crate::failure::Failure;
use crate::output::print;
use vastrelay_fleet::profile::{Goal, OwnDefaults, Traffic, spec_for};
use vastrelay_weights::{GenerationDefaults, ModelDescription, ModelFiles};

/// Prints a spec to begin with.
pub fn new(options: &EndpointNewOptions) -> Result<(), Failure> {
    let files = ModelFiles::open_or_config(&options.model).map_err(Failure::failed)?;
    let path = files.path();
    let description = ModelDescription::read(&files).map_err(Failure::failed)?;
    // A config by itself has no file with defaults beside it.
    let defaults = match path.is_dir() || files.gguf().is_some() {
        true => GenerationDefaults::read(&files).map_err(Failure::failed)?,
        false => GenerationDefaults::default(),
    };
    let own = OwnDefaults {
        temperature: defaults.temperature,
        top_p: defaults.top_p,
        top_k: defaults.top_k,
    };
    let unknown = || Failure::usage("there is no such kind of traffic or goal");
    let traffic = Traffic::of(&options.traffic).ok_or_else(unknown)?;
    let goal = Goal::of(&options.goal).ok_or_else(unknown)?;
    print(&spec_for(
        &path.display().to_string(),
        description.context,
        own,
        traffic,
        goal,
    ));
    Ok(())
}
