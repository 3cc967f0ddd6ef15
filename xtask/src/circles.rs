//! Files of a crate that use each other in a circle, directly or through others.
//!
//! A file uses another one where a path in it begins with `crate`, `self` or `super` and leads into the other. What a file and the files
//! of its own folder use of each other is left aside: they are one concept in parts. Tests may use what they like.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::Path;

/// A module's path within its crate.
pub type Module = Vec<String>;
/// The modules that each module uses.
pub type Uses = BTreeMap<Module, BTreeSet<Module>>;

/// Returns the circles of all crates in a folder, in words.
///
/// # Errors
/// When a file cannot be read.
pub fn circles(crates: &Path) -> Result<Vec<String>, String> {
    let mut found = Vec::new();
    for folder in entries(crates)? {
        let source = folder.join("src");
        if !source.is_dir() {
            continue;
        }
        for circle in of_crate(&read_crate(&source)?) {
            let names: Vec<String> = circle.iter().map(|module| format!("{}.rs", module.join("/"))).collect();
            found.push(format!("{}: {}", source.display(), names.join(", ")));
        }
    }
    Ok(found)
}

/// Returns the text of each file beneath a folder of sources, by its path without the ending.
///
/// # Errors
/// When one cannot be read.
pub fn texts_of(source: &Path) -> Result<Vec<(String, String)>, String> {
    let texts = read_crate(source)?;
    let named = |(module, text): (Module, String)| match module.is_empty() {
        true => ("lib".to_owned(), text),
        false => (module.join("/"), text),
    };
    Ok(texts.into_iter().map(named).collect())
}

/// Returns the segments of every path in a source text, without comments and tests.
pub fn paths_of(text: &str) -> Vec<Vec<String>> {
    let text = without_comments_and_tests(text);
    let mut found = Vec::new();
    for (at, _) in text.match_indices("::") {
        let before = text[..at]
            .rsplit(|c: char| !c.is_alphanumeric() && c != '_')
            .next()
            .unwrap_or_default();
        if before.is_empty() || text[..at - before.len()].ends_with("::") {
            continue;
        }
        for rest in paths(&text[at + 2..]) {
            let rest = rest.into_iter().map(str::to_owned);
            found.push(std::iter::once(before.to_owned()).chain(rest).collect());
        }
    }
    found
}

fn entries(folder: &Path) -> Result<Vec<std::path::PathBuf>, String> {
    let unreadable = |error| format!("cannot read {}: {error}", folder.display());
    let entries = fs::read_dir(folder).map_err(unreadable)?;
    let mut paths = entries
        .map(|entry| entry.map(|entry| entry.path()))
        .collect::<Result<Vec<_>, _>>()
        .map_err(unreadable)?;
    paths.sort();
    Ok(paths)
}

/// Reads all modules of a crate, by their paths in it.
///
/// # Errors
/// When a file cannot be read.
pub fn read_crate(source: &Path) -> Result<BTreeMap<Module, String>, String> {
    let mut texts = BTreeMap::new();
    read(source, &mut Vec::new(), &mut texts)?;
    Ok(texts)
}

/// Returns what each module of a crate uses.
pub fn uses_of(texts: &BTreeMap<Module, String>) -> Uses {
    let used = |(module, text): (&Module, &String)| (module.clone(), used(module, text, texts));
    texts.iter().map(used).collect()
}

/// Reads all modules of a folder.
fn read(folder: &Path, at: &mut Module, texts: &mut BTreeMap<Module, String>) -> Result<(), String> {
    for path in entries(folder)? {
        let name = path.file_stem().unwrap_or_default().to_string_lossy().into_owned();
        if path.is_dir() {
            at.push(name);
            read(&path, at, texts)?;
            at.pop();
        } else if path.extension().is_some_and(|extension| extension == "rs") {
            let text = fs::read_to_string(&path).map_err(|error| format!("cannot read {}: {error}", path.display()))?;
            let mut module = at.clone();
            if !(at.is_empty() && (name == "lib" || name == "main")) {
                module.push(name);
            }
            texts.insert(module, text);
        }
    }
    Ok(())
}

/// Returns the circles among a crate's modules.
fn of_crate(texts: &BTreeMap<Module, String>) -> Vec<Vec<Module>> {
    let uses = uses_of(texts);
    let reached: Uses = uses
        .keys()
        .map(|module| (module.clone(), reach(module, &uses)))
        .collect();
    let mut circles: BTreeSet<Vec<Module>> = BTreeSet::new();
    for (module, others) in &reached {
        let mut circle: Vec<Module> = others
            .iter()
            .filter(|other| reached[*other].contains(module))
            .cloned()
            .collect();
        if circle.len() > 1 {
            circle.sort();
            circles.insert(circle);
        }
    }
    circles.into_iter().collect()
}

/// Returns everything that a module uses, directly or through others.
fn reach(module: &Module, uses: &Uses) -> BTreeSet<Module> {
    let mut reached = BTreeSet::new();
    let mut next: Vec<&Module> = uses[module].iter().collect();
    while let Some(module) = next.pop() {
        if reached.insert(module.clone()) {
            next.extend(&uses[module]);
        }
    }
    reached
}

/// Returns the modules that a text leads into.
fn used(module: &Module, text: &str, texts: &BTreeMap<Module, String>) -> BTreeSet<Module> {
    let text = without_comments_and_tests(text);
    let mut found = BTreeSet::new();
    for (at, _) in text.match_indices("::") {
        let before = text[..at]
            .rsplit(|c: char| !c.is_alphanumeric() && c != '_')
            .next()
            .unwrap_or_default();
        let is_first = !text[..at - before.len()].ends_with("::");
        let base = match before {
            "crate" if is_first => Vec::new(),
            "self" if is_first => module.clone(),
            "super" if is_first => parent(module),
            _ => continue,
        };
        for words in paths(&text[at + 2..]) {
            let target = follow(base.clone(), &words, texts);
            let is_family = target.starts_with(module) || module.starts_with(&target);
            if !is_family && texts.contains_key(&target) {
                found.insert(target);
            }
        }
    }
    found
}

fn parent(module: &Module) -> Module {
    module[..module.len().saturating_sub(1)].to_vec()
}

/// Returns the deepest module that words lead into from another one.
fn follow(mut module: Module, words: &[&str], texts: &BTreeMap<Module, String>) -> Module {
    for word in words {
        if *word == "super" {
            module = parent(&module);
            continue;
        }
        module.push((*word).to_owned());
        if !texts.contains_key(&module) {
            module.pop();
            break;
        }
    }
    module
}

/// Returns the paths that begin a text: one, or several in braces, of which the first words count.
fn paths(text: &str) -> Vec<Vec<&str>> {
    let Some(list) = text.strip_prefix('{') else {
        return vec![words(text)];
    };
    let (mut depth, mut begin, mut found) = (0, 0, Vec::new());
    for (at, c) in list.char_indices() {
        match c {
            '{' => depth += 1,
            '}' if depth > 0 => depth -= 1,
            ',' | '}' if depth == 0 => {
                found.push(words(list[begin..at].trim_start()));
                begin = at + 1;
                if c == '}' {
                    break;
                }
            }
            _ => {}
        }
    }
    found
}

/// Returns the words of the path that begins a text.
fn words(text: &str) -> Vec<&str> {
    let end = text
        .find(|c: char| !c.is_alphanumeric() && c != '_' && c != ':')
        .unwrap_or(text.len());
    text[..end].split("::").filter(|word| !word.is_empty()).collect()
}

fn without_comments_and_tests(text: &str) -> String {
    let end = text.find("#[cfg(test)]\nmod tests {").unwrap_or(text.len());
    let lines = text[..end]
        .lines()
        .map(|line| line.split("//").next().unwrap_or_default());
    lines.collect::<Vec<_>>().join("\n")
}

/// Returns texts by the paths of their modules, whose names stand between slashes.
#[cfg(test)]
pub fn texts_by_module(files: &[(&str, &str)]) -> BTreeMap<Module, String> {
    let module = |path: &str| {
        path.split('/')
            .filter(|name| !name.is_empty())
            .map(str::to_owned)
            .collect()
    };
    files
        .iter()
        .map(|(path, text)| (module(path), (*text).to_owned()))
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn crate_of(files: &[(&str, &str)]) -> Vec<String> {
        let texts = texts_by_module(files);
        let circle = |circle: Vec<Module>| {
            circle
                .iter()
                .map(|module| module.join("/"))
                .collect::<Vec<_>>()
                .join(" ")
        };
        of_crate(&texts).into_iter().map(circle).collect()
    }

    #[test]
    fn circles_are_found_through_others_and_in_braces() {
        let files = [
            ("", "pub mod a; pub use crate::a::A;"),
            ("a", "use crate::{b::B, c};"),
            ("b", "fn f() { crate::c::g() }"),
            ("c", "use super::a::A;"),
            ("d", "use crate::a::A;"),
        ];
        assert_eq!(crate_of(&files), ["a b c"]);
    }

    #[test]
    fn a_file_and_its_own_folder_are_one() {
        let files = [
            ("a", "mod part; use part::B;"),
            ("a/part", "use super::A; use super::super::b::C;"),
            (
                "b",
                "// use crate::a::A;\nfn f() {}\n#[cfg(test)]\nmod tests {\n use crate::a::A;\n}",
            ),
        ];
        assert!(crate_of(&files).is_empty());
        let files = [
            files[0],
            files[1],
            ("b", "use crate::a::A;"),
            ("a/other", "use super::part::B;"),
        ];
        // The file does not use what its part uses.
        assert!(crate_of(&files).is_empty());
        let files = [
            ("a", "use crate::b::B;"),
            ("a/part", "fn f() {}"),
            ("b", "use crate::a::part::B; use crate::a;"),
        ];
        assert_eq!(crate_of(&files), ["a b"]);
    }
}
