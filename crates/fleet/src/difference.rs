//! What is different between two specs.

use toml::{Table, Value};

/// A key whose value is another one.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Difference {
    /// The key, such as `batch.width`.
    pub key: String,
    /// What it was, as TOML; nothing where it was not written.
    pub was: Option<String>,
    /// What it is, as TOML; nothing where it is not written.
    pub is: Option<String>,
}

/// Returns what is different between two specs, by key. What is no TOML is taken for an empty spec.
pub fn differences(was: &str, is: &str) -> Vec<Difference> {
    let (was, is) = (keys(was), keys(is));
    let mut all: Vec<&String> = was.iter().chain(&is).map(|(key, _)| key).collect();
    all.sort();
    all.dedup();
    let value = |of: &[(String, String)], key: &String| {
        let found = of.iter().find(|(other, _)| other == key);
        found.map(|(_, value)| value.clone())
    };
    let difference = |key: &String| Difference {
        key: key.clone(),
        was: value(&was, key),
        is: value(&is, key),
    };
    let all = all.into_iter().map(difference);
    all.filter(|difference| difference.was != difference.is).collect()
}

/// Returns the keys of a spec with their values as TOML.
fn keys(text: &str) -> Vec<(String, String)> {
    let mut all = Vec::new();
    for (name, value) in text.parse::<Table>().unwrap_or_default() {
        match value {
            Value::Table(table) => all.extend(
                table
                    .into_iter()
                    .map(|(key, value)| (format!("{name}.{key}"), value.to_string())),
            ),
            value => all.push((name, value.to_string())),
        }
    }
    all
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn keys_that_are_written_otherwise_are_told_and_comments_are_not() {
        let was = "model = \"a\" # the first\n[batch]\nwidth = 4\ncontext = 100\n";
        let is = "batch = { width = 8, context = 1_00 }\nmodel = \"a\"\n[queue]\nwait = \"3s\"";
        let difference = |key: &str, was: Option<&str>, is: Option<&str>| Difference {
            key: key.into(),
            was: was.map(str::to_owned),
            is: is.map(str::to_owned),
        };
        assert_eq!(
            differences(was, is),
            [
                difference("batch.width", Some("4"), Some("8")),
                difference("queue.wait", None, Some("\"3s\""))
            ]
        );
        assert_eq!(differences(is, is), []);
        assert_eq!(differences("[", "model = 1"), [difference("model", None, Some("1"))]);
    }
}
