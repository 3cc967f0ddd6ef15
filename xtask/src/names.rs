//! Names that a crate may not use: what it must know nothing about.

use crate::circles::{paths_of, texts_of};
use std::path::Path;

/// Paths that a crate may not name, and why.
struct Rule {
    name: &'static str,
    paths: &'static [&'static str],
    why: &'static str,
}

const RULES: [Rule; 3] = [
    Rule {
        name: "control",
        paths: &[
            "actix_web",
            "actix_http",
            "actix_service",
            "reqwest",
            "rustls",
            "utoipa",
            "vastrelay_service",
        ],
        why: "the control plane knows no HTTP",
    },
    Rule {
        name: "service",
        paths: &[
            "vastrelay_serving::worker",
            "vastrelay_serving::process::Process",
            "vastrelay_serving::process::Log",
            "vastrelay_serving::Sizing",
            "vastrelay_serving::replicas::sizing",
            "vastrelay_weights::ModelFiles",
            "vastrelay_fleet::ledger",
            "vastrelay_fleet::cores",
        ],
        why: "the edge knows no worker, no model file and no ledger: the control plane does",
    },
    Rule {
        name: "fleet",
        paths: &[
            "std::fs",
            "std::net",
            "std::process",
            "std::thread",
            "std::time::Instant",
            "std::time::SystemTime",
        ],
        why: "what decides is pure: it does no I/O and knows no clock",
    },
];

/// Returns every name that a crate uses and may not, in words.
///
/// # Errors
/// When a file cannot be read.
pub fn forbidden(crates: &Path) -> Result<Vec<String>, String> {
    let mut found = Vec::new();
    for rule in &RULES {
        for (file, text) in texts_of(&crates.join(rule.name).join("src"))? {
            found.extend(
                named(rule, &text)
                    .into_iter()
                    .map(|path| format!("crates/{}/src/{file}.rs names {path}: {}", rule.name, rule.why)),
            );
        }
    }
    Ok(found)
}

/// Returns the paths of a rule that a text names.
fn named(rule: &Rule, text: &str) -> Vec<&'static str> {
    let paths = paths_of(text);
    let is_named = |wanted: &&&'static str| {
        let words: Vec<&str> = wanted.split("::").collect();
        paths.iter().any(|path| {
            let path: Vec<&str> = path.iter().map(String::as_str).collect();
            path.starts_with(&words)
        })
    };
    rule.paths.iter().filter(is_named).copied().collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn forbidden_names_are_found_alone_and_in_braces_but_not_in_comments_and_tests() {
        let service = &RULES[1];
        let text =
            "use vastrelay_serving::{Model, worker::WorkerConfig};\nfn f() { vastrelay_weights::ModelFiles::open(x) }";
        assert_eq!(
            named(service, text),
            ["vastrelay_serving::worker", "vastrelay_weights::ModelFiles"]
        );
        let text = "// use vastrelay_serving::worker::WorkerConfig;\nuse vastrelay_serving::workers;\n#[cfg(test)]\nmod tests {\n    \
                    use vastrelay_fleet::ledger::Ledger;\n}";
        assert!(named(service, text).is_empty());
    }

    #[test]
    fn each_rule_is_about_a_crate_that_is_there() {
        let crates = Path::new(env!("CARGO_MANIFEST_DIR")).join("../crates");
        for rule in &RULES {
            assert!(
                !texts_of(&crates.join(rule.name).join("src")).unwrap().is_empty(),
                "{}",
                rule.name
            );
        }
    }
}
