//! `vastrelay convert`: makes a build for a service, which ends it with itself.

use crate::failure::Failure;
use rustix::process::{Signal, nice, set_parent_process_death_signal};
use std::io::Read;
use vastrelay_serving::models::build::{Conversion, convert};

/// How much rather than it others get the processor.
const STANDS_BACK: i32 = 10;
/// Most bytes of what is to be converted, as JSON.
const MOST: u64 = 64 << 10;

/// Converts what its standard input says.
pub fn run() -> Result<(), Failure> {
    let _ = nice(STANDS_BACK);
    set_parent_process_death_signal(Some(Signal::KILL)).map_err(Failure::failed)?;
    let mut text = String::new();
    let read = std::io::stdin().lock().take(MOST).read_to_string(&mut text);
    read.map_err(Failure::failed)?;
    let conversion: Conversion = serde_json::from_str(&text).map_err(|error| {
        Failure::usage(format!(
            "this command is for a service, which says what to convert: {error}"
        ))
    })?;
    convert(&conversion).map_err(Failure::failed)
}
