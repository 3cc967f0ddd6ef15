//! `vastrelay endpoint new`.

use crate::args::endpoint::EndpointNewOptions;
use crate::failure::Failure;
use crate::output::print;
use vastrelay_fleet::profile::{Goal, Traffic, spec_for};
use vastrelay_weights::{ModelDescription, ModelFiles};

/// Prints a spec to begin with.
pub fn new(options: &EndpointNewOptions) -> Result<(), Failure> {
    let path = std::path::absolute(&options.model).map_err(Failure::usage)?;
    let files = ModelFiles::open(&path).map_err(Failure::failed)?;
    let description = ModelDescription::read(&files).map_err(Failure::failed)?;
    let unknown = || Failure::usage("there is no such kind of traffic or goal");
    let traffic = Traffic::of(&options.traffic).ok_or_else(unknown)?;
    let goal = Goal::of(&options.goal).ok_or_else(unknown)?;
    print(&spec_for(
        &path.display().to_string(),
        description.context,
        traffic,
        goal,
    ));
    Ok(())
}
