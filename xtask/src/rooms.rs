//! The rooms of a crate: its modules at the top, each with all that lies beneath it.

use crate::circles::{Uses, read_crate, uses_of};
use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;

/// The crates whose rooms are few, and use each other in one direction.
const CRATES: [&str; 3] = ["control", "service", "serving"];
/// Most rooms of a crate.
const MOST: usize = 8;

/// The other rooms that each room uses.
type Rooms = BTreeMap<String, BTreeSet<String>>;

/// Returns the faults in the order of rooms of the crates in a folder, as sentences.
///
/// # Errors
/// When a file cannot be read.
pub fn disorder(crates: &Path) -> Result<Vec<String>, String> {
    let mut found = Vec::new();
    for name in CRATES {
        let texts = read_crate(&crates.join(name).join("src"))?;
        found.extend(wrong(name, &rooms(&uses_of(&texts))));
    }
    Ok(found)
}

fn rooms(uses: &Uses) -> Rooms {
    let mut rooms = Rooms::new();
    for (module, used) in uses {
        let Some(room) = module.first() else { continue };
        let others = used
            .iter()
            .filter_map(|other| other.first())
            .filter(|other| *other != room);
        rooms.entry(room.clone()).or_default().extend(others.cloned());
    }
    rooms
}

fn wrong(name: &str, rooms: &Rooms) -> Vec<String> {
    let mut found = Vec::new();
    if rooms.len() > MOST {
        let names: Vec<&str> = rooms.keys().map(String::as_str).collect();
        found.push(format!(
            "crates/{name} has {} modules at the top, {MOST} at most: {}",
            rooms.len(),
            names.join(", ")
        ));
    }
    let mut left = rooms.clone();
    while let Some(ground) = left
        .iter()
        .find(|(_, used)| used.is_empty())
        .map(|(room, _)| room.clone())
    {
        left.remove(&ground);
        left.values_mut().for_each(|used| _ = used.remove(&ground));
    }
    if !left.is_empty() {
        let names: Vec<&str> = left.keys().map(String::as_str).collect();
        found.push(format!(
            "rooms of crates/{name} use each other in a circle: {}",
            names.join(", ")
        ));
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::circles::texts_by_module;

    fn of(files: &[(&str, &str)]) -> Vec<String> {
        wrong("service", &rooms(&uses_of(&texts_by_module(files))))
    }

    #[test]
    fn rooms_may_not_use_each_other_in_a_circle_though_their_files_do_not() {
        let files = [
            ("", "pub mod a; pub mod b;"),
            ("a", "mod one; mod two;"),
            ("a/one", "use crate::b::B;"),
            ("a/two", "fn f() {}"),
            ("b", "use crate::a::two::f;"),
        ];
        assert_eq!(of(&files), ["rooms of crates/service use each other in a circle: a, b"]);
        let files = [files[0], files[1], files[2], files[3], ("b", "fn g() {}")];
        assert!(of(&files).is_empty());
    }

    #[test]
    fn a_crate_has_eight_rooms_at_most() {
        let names: Vec<String> = (0..9).map(|number| format!("room{number}")).collect();
        let files: Vec<(&str, &str)> = names.iter().map(|name| (name.as_str(), "")).collect();
        assert!(of(&files[..8]).is_empty());
        assert_eq!(of(&files).len(), 1);
    }
}
