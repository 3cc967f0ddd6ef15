//! The spec of an endpoint: a TOML file.
//!
//! ```toml
//! model = "shapes/lighthouse-70b"   # a folder or a GGUF file, from this file's folder
//!
//! [precision]
//! weights = "int4"
//! kv = "int8"
//!
//! [device]
//! profile = ["sim-48g", "sim-80g"]  # the first with room
//! split = 4
//!
//! [batch]
//! width = 64
//! context = 8192
//! ```

use crate::settings::Settings;
use schemars::JsonSchema;
use serde::de::{self, Deserializer, Unexpected, Visitor};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::fmt;
use std::ops::Range;
use toml::Spanned;
use vastrelay_planner::Typical;
use vastrelay_weights::Precision;
use vastrelay_weights::precision::KvPrecision;

/// What an endpoint is to be.
#[derive(Clone, Debug, PartialEq)]
pub struct Spec {
    /// The model's path, as it is written: from the file's folder.
    pub model: String,
    /// How it is to be run.
    pub settings: Settings,
    /// Where each key is that is written.
    places: BTreeMap<&'static str, Place>,
}

/// A place in a file, both counted from 1.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
pub struct Place {
    /// The line.
    pub line: usize,
    /// The character in it.
    pub column: usize,
}

/// A spec cannot be used.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{place}: {text}")]
pub struct SpecError {
    /// Where.
    pub place: Place,
    /// What is wrong, and what would work.
    pub text: String,
}

impl fmt::Display for Place {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "line {}, column {}", self.line, self.column)
    }
}

/// An endpoint of Vast Relay: the file has its name.
#[derive(Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(title = "Endpoint")]
struct Written {
    /// The model: a folder or a GGUF file, from this file's folder on.
    #[schemars(with = "String", length(min = 1))]
    model: Spanned<String>,
    /// What weights, keys and values are computed and kept in.
    #[serde(default)]
    precision: WrittenPrecision,
    /// Where it runs.
    #[serde(default)]
    device: WrittenDevice,
    /// What it may take of its device's memory.
    #[serde(default)]
    memory: WrittenMemory,
    /// How requests are computed together.
    #[serde(default)]
    batch: WrittenBatch,
    /// Who waits for the batch.
    #[serde(default)]
    queue: WrittenQueue,
}

#[derive(Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct WrittenPrecision {
    /// Precision of weights; as stored when absent.
    #[schemars(with = "Option<String>", extend("enum" = WEIGHTS))]
    weights: Option<Spanned<String>>,
    /// Weights that share a scale, for int8 and int4.
    #[schemars(with = "Option<usize>", extend("enum" = GROUPS))]
    group: Option<Spanned<Count>>,
    /// Precision of keys and values; bf16 when absent.
    #[schemars(with = "Option<String>", extend("enum" = KV))]
    kv: Option<Spanned<String>>,
}

#[derive(Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct WrittenDevice {
    /// A device profile by its name or file, or a list of them: the first with room. The processor when absent.
    #[schemars(with = "Option<OneOrMany>")]
    profile: Option<Spanned<Names>>,
    /// Devices, or parts of the processor, that a replica spans.
    #[schemars(with = "Option<usize>", range(min = 1))]
    split: Option<Spanned<Count>>,
    /// Cores of a replica on the processor.
    #[schemars(with = "Option<usize>", range(min = 1))]
    cores: Option<Spanned<Count>>,
}

#[derive(Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct WrittenMemory {
    /// Fraction of a device's memory that a replica may take.
    #[schemars(with = "Option<f64>", range(min = 0, max = 1))]
    share: Option<Spanned<Number>>,
    /// KV pages; as many as fit and are of use when absent.
    #[schemars(with = "Option<usize>", range(min = 1))]
    pages: Option<Spanned<Count>>,
}

#[derive(Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct WrittenBatch {
    /// Maximum sequences in a batch.
    #[schemars(with = "Option<usize>", range(min = 1))]
    width: Option<Spanned<Count>>,
    /// Most tokens in one step, prefill and decode together.
    #[schemars(with = "Option<usize>", range(min = 1))]
    step_budget: Option<Spanned<Count>>,
    /// Most prompt tokens of one sequence in a step.
    #[schemars(with = "Option<usize>", range(min = 1))]
    prefill_chunk: Option<Spanned<Count>>,
    /// Most tokens of a sequence, prompt and answer; the model's own when absent.
    #[schemars(with = "Option<usize>", range(min = 1))]
    context: Option<Spanned<Count>>,
    /// A typical sequence: tokens of its prompt and its answer, such as 600+200.
    #[schemars(with = "Option<String>", regex(pattern = r"^\d+\+\d+$"))]
    typical: Option<Spanned<String>>,
}

#[derive(Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct WrittenQueue {
    /// Most requests that wait for the batch.
    #[schemars(with = "Option<usize>", range(min = 1))]
    depth: Option<Spanned<Count>>,
    /// Longest that one waits for it, such as 30s or 2m; any time when absent.
    #[schemars(with = "Option<String>")]
    wait: Option<Spanned<String>>,
}

/// A name, or several.
#[derive(JsonSchema)]
#[serde(untagged)]
#[allow(dead_code, reason = "only its schema is used")]
enum OneOrMany {
    One(String),
    Many(#[schemars(length(min = 1))] Vec<String>),
}

const WEIGHTS: [&str; 5] = ["as-stored", "f32", "bf16", "int8", "int4"];
const GROUPS: [usize; 3] = [32, 64, 128];
const KV: [&str; 3] = ["f32", "bf16", "int8"];

impl Spec {
    /// Reads a spec.
    ///
    /// # Errors
    /// When it is no TOML, has a key that specs have not, or a value that cannot be; the error says where.
    pub fn parse(text: &str) -> Result<Spec, SpecError> {
        let written: Written = toml::from_str(text).map_err(|error| SpecError {
            place: place(text, error.span().map_or(0, |span| span.start)),
            text: error.message().trim_end().to_owned(),
        })?;
        let mut reader = Reader {
            text,
            places: BTreeMap::new(),
        };
        let model = reader.take("model", Some(written.model), non_empty)?;
        let (precision, device, memory) = (written.precision, written.device, written.memory);
        let (batch, queue) = (written.batch, written.queue);
        let settings = Settings {
            weights: reader.weights(precision.weights, precision.group)?,
            kv: reader.take("precision.kv", precision.kv, kv)?,
            devices: reader.take("device.profile", device.profile, |Names(names)| Ok(names))?,
            split: reader.count("device.split", device.split)?,
            cores: reader.count("device.cores", device.cores)?,
            memory_share: reader.take("memory.share", memory.share, |Number(share)| Ok(share))?,
            pages: reader.count("memory.pages", memory.pages)?,
            width: reader.count("batch.width", batch.width)?,
            step_budget: reader.count("batch.step_budget", batch.step_budget)?,
            prefill_chunk: reader.count("batch.prefill_chunk", batch.prefill_chunk)?,
            context: reader.count("batch.context", batch.context)?,
            typical: reader.take("batch.typical", batch.typical, |text| text.parse::<Typical>())?,
            queue_depth: reader.count("queue.depth", queue.depth)?,
            queue_wait: reader.take("queue.wait", queue.wait, wait)?,
        };
        Ok(Spec {
            model: model.unwrap_or_default(),
            settings,
            places: reader.places,
        })
    }

    /// Returns the JSON Schema of specs, with which editors complete them.
    pub fn schema() -> serde_json::Value {
        schemars::schema_for!(Written).to_value()
    }

    /// Returns a spec that says nothing but the model's path.
    pub fn text_of(model: &str) -> String {
        format!("model = {}\n", toml::Value::from(model))
    }

    /// Returns the error that the value of a key cannot be, at the key's place or, where it is not written, at the file's beginning.
    pub fn refuse(&self, key: &str, text: String) -> SpecError {
        let place = self.places.get(key).copied();
        SpecError {
            place: place.unwrap_or(Place { line: 1, column: 1 }),
            text,
        }
    }
}

/// Takes values and notes where they are.
struct Reader<'a> {
    text: &'a str,
    places: BTreeMap<&'static str, Place>,
}

impl Reader<'_> {
    fn take<T, U>(
        &mut self,
        key: &'static str,
        value: Option<Spanned<T>>,
        read: impl FnOnce(T) -> Result<U, String>,
    ) -> Result<Option<U>, SpecError> {
        let Some(value) = value else { return Ok(None) };
        let place = self.note(key, value.span());
        let read = read(value.into_inner());
        read.map(Some).map_err(|text| SpecError {
            place,
            text: format!("`{key}`: {text}"),
        })
    }

    fn count(&mut self, key: &'static str, value: Option<Spanned<Count>>) -> Result<Option<usize>, SpecError> {
        self.take(key, value, |Count(count)| Ok(count))
    }

    /// Reads a precision and its group, each of which may be what is wrong.
    fn weights(
        &mut self,
        weights: Option<Spanned<String>>,
        group: Option<Spanned<Count>>,
    ) -> Result<Option<Precision>, SpecError> {
        let group = group.map(|group| (self.note("precision.group", group.span()), group.into_inner().0));
        let word = weights.as_ref().map(|word| word.get_ref().clone());
        self.take("precision.weights", weights, |word| Precision::of(&word, None))?;
        match (word, group) {
            (None, None) => Ok(None),
            (Some(word), None) => Ok(Precision::of(&word, None).ok()),
            (None, Some((place, _))) => Err(SpecError {
                place,
                text: "`precision.group`: write `precision.weights`, too: int8 or int4".into(),
            }),
            (Some(word), Some((place, group))) => {
                let both = Precision::of(&word, Some(group));
                both.map(Some).map_err(|text| SpecError {
                    place,
                    text: format!("`precision.group`: {text}"),
                })
            }
        }
    }

    fn note(&mut self, key: &'static str, span: Range<usize>) -> Place {
        let place = place(self.text, span.start);
        self.places.insert(key, place);
        place
    }
}

fn non_empty(text: String) -> Result<String, String> {
    if text.is_empty() {
        Err("write the path of a folder or a GGUF file".into())
    } else {
        Ok(text)
    }
}

fn kv(word: String) -> Result<KvPrecision, String> {
    KvPrecision::of(&word).ok_or_else(|| format!("`{word}` is not a KV precision; use f32, bf16 or int8"))
}

fn wait(text: String) -> Result<std::time::Duration, String> {
    let read = humantime::parse_duration(&text).ok().filter(|wait| !wait.is_zero());
    read.ok_or_else(|| format!("`{text}` is not a time to wait; use one such as 30s or 2m"))
}

/// Returns the place of a byte.
fn place(text: &str, at: usize) -> Place {
    let before = text.get(..at).unwrap_or(text);
    let line = before.rsplit('\n').next().unwrap_or("");
    Place {
        line: before.matches('\n').count() + 1,
        column: line.chars().count() + 1,
    }
}

/// A whole number from 1 on.
struct Count(usize);

impl<'de> Deserialize<'de> for Count {
    fn deserialize<D: Deserializer<'de>>(from: D) -> Result<Count, D::Error> {
        from.deserialize_any(Counting)
    }
}

struct Counting;

impl Visitor<'_> for Counting {
    type Value = Count;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("a whole number from 1 on")
    }

    fn visit_i64<E: de::Error>(self, value: i64) -> Result<Count, E> {
        let count = usize::try_from(value).ok().filter(|count| *count > 0);
        count
            .map(Count)
            .ok_or_else(|| E::invalid_value(Unexpected::Signed(value), &self))
    }
}

/// A number, whole or not.
struct Number(f64);

impl<'de> Deserialize<'de> for Number {
    fn deserialize<D: Deserializer<'de>>(from: D) -> Result<Number, D::Error> {
        from.deserialize_any(Numbering)
    }
}

struct Numbering;

impl Visitor<'_> for Numbering {
    type Value = Number;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("a number")
    }

    fn visit_i64<E: de::Error>(self, value: i64) -> Result<Number, E> {
        Ok(Number(value as f64))
    }

    fn visit_f64<E: de::Error>(self, value: f64) -> Result<Number, E> {
        Ok(Number(value))
    }
}

/// A name, or a list of them.
struct Names(Vec<String>);

impl<'de> Deserialize<'de> for Names {
    fn deserialize<D: Deserializer<'de>>(from: D) -> Result<Names, D::Error> {
        from.deserialize_any(Naming)
    }
}

struct Naming;

impl<'de> Visitor<'de> for Naming {
    type Value = Names;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("the name of a device profile or a list of names")
    }

    fn visit_str<E: de::Error>(self, name: &str) -> Result<Names, E> {
        Ok(Names(vec![name.to_owned()]))
    }

    fn visit_seq<A: de::SeqAccess<'de>>(self, mut names: A) -> Result<Names, A::Error> {
        let mut all = Vec::new();
        while let Some(name) = names.next_element::<String>()? {
            all.push(name);
        }
        if all.is_empty() {
            return Err(de::Error::invalid_length(0, &self));
        }
        Ok(Names(all))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::time::Duration;

    const WHOLE: &str = r#"
model = "shapes/lighthouse-70b"
[precision]
weights = "int4"
group = 64
kv = "int8"
[device]
profile = ["sim-48g", "own.toml"]
split = 4
cores = 2
[memory]
share = 1
pages = 1_000
[batch]
width = 64
step_budget = 512
prefill_chunk = 128
context = 8192
typical = "600+200"
[queue]
depth = 40
wait = "30s"
"#;

    #[test]
    fn every_key_is_read() {
        let spec = Spec::parse(WHOLE).unwrap();
        assert_eq!(spec.model, "shapes/lighthouse-70b");
        let expected = Settings {
            weights: Precision::of("int4", Some(64)).ok(),
            kv: Some(KvPrecision::Int8),
            devices: Some(vec!["sim-48g".into(), "own.toml".into()]),
            split: Some(4),
            cores: Some(2),
            memory_share: Some(1.0),
            pages: Some(1_000),
            width: Some(64),
            step_budget: Some(512),
            prefill_chunk: Some(128),
            context: Some(8_192),
            typical: Some(Typical {
                prompt: 600,
                output: 200,
            }),
            queue_depth: Some(40),
            queue_wait: Some(Duration::from_secs(30)),
        };
        assert_eq!(spec.settings, expected);
        let refused = spec.refuse("batch.context", "too long".into());
        assert_eq!(refused.to_string(), "line 18, column 11: too long");
        let only = Spec::parse("model = \"m\"\n[device]\nprofile = \"cpu\"").unwrap();
        assert_eq!(only.settings.devices, Some(vec!["cpu".into()]));
        assert_eq!(only.settings.clone().or(&expected).width, Some(64));
        assert_eq!(only.settings.or(&expected).devices, Some(vec!["cpu".into()]));
    }

    /// Returns the keys of a schema with what may stand there, by their path.
    fn keys_of(schema: &serde_json::Value) -> BTreeMap<String, serde_json::Value> {
        let mut keys = BTreeMap::new();
        for (name, value) in schema["properties"].as_object().unwrap() {
            let table = value["$ref"].as_str().map(|path| path.rsplit('/').next().unwrap());
            match table {
                None => _ = keys.insert(name.clone(), value.clone()),
                Some(table) => {
                    let table = schema["$defs"][table]["properties"].as_object().unwrap();
                    keys.extend(
                        table
                            .iter()
                            .map(|(key, value)| (format!("{name}.{key}"), value.clone())),
                    );
                }
            }
        }
        keys
    }

    #[test]
    fn the_schema_has_every_key_and_what_it_allows_is_read() {
        let schema = Spec::schema();
        let keys = keys_of(&schema);
        let written = Spec::parse(WHOLE).unwrap().places;
        assert_eq!(keys.keys().collect::<Vec<_>>(), written.keys().collect::<Vec<_>>());
        assert!(keys.values().all(|key| key["description"].is_string()), "{schema:#}");
        for word in WEIGHTS {
            assert!(
                Spec::parse(&format!("model = \"m\"\nprecision.weights = \"{word}\"")).is_ok(),
                "{word}"
            );
        }
        for group in GROUPS {
            let text = format!("model = \"m\"\nprecision = {{weights = \"int4\", group = {group}}}");
            assert!(Spec::parse(&text).is_ok(), "{group}");
        }
        for word in KV {
            assert!(
                Spec::parse(&format!("model = \"m\"\nprecision.kv = \"{word}\"")).is_ok(),
                "{word}"
            );
        }
    }

    #[test]
    fn the_spec_of_a_model_alone_names_it_whatever_its_path_holds() {
        for path in ["/models/pierdesk-1", "a \"b\"", "tab\there", "c:\\d", "line\nbreak"] {
            assert_eq!(Spec::parse(&Spec::text_of(path)).unwrap().model, path);
        }
    }

    #[test]
    fn what_cannot_be_is_refused_with_its_place_and_what_would_work() {
        for (from, to, at, hint) in [
            ("width = 64", "breadth = 64", "line 15, column 1", "`width`"),
            ("width = 64", "width = 0", "line 15, column 9", "from 1 on"),
            ("width = 64", "width = -3", "line 15, column 9", "from 1 on"),
            ("width = 64", "width = \"wide\"", "line 15, column 9", "a whole number"),
            ("cores = 2", "cores = 0.5", "line 10, column 9", "a whole number"),
            ("group = 64", "group = 65", "line 5, column 9", "32, 64 or 128"),
            ("\"int4\"", "\"int3\"", "line 4, column 11", "int8 or int4"),
            ("\"int8\"", "\"fp8\"", "line 6, column 6", "f32, bf16 or int8"),
            ("weights = \"int4\"", "", "line 5, column 9", "`precision.weights`"),
            (
                "[\"sim-48g\", \"own.toml\"]",
                "[]",
                "line 8, column 11",
                "device profile",
            ),
            ("600+200", "600", "line 19, column 11", "600+200"),
            ("\"30s\"", "\"soon\"", "line 22, column 8", "30s"),
            ("\"30s\"", "\"0s\"", "line 22, column 8", "30s"),
            ("share = 1", "share = \"all\"", "line 12, column 9", "a number"),
            ("model = \"shapes/lighthouse-70b\"", "", "line 1, column 1", "`model`"),
            ("\"shapes/lighthouse-70b\"", "\"\"", "line 2, column 9", "folder"),
            ("[queue]", "[queue", "line 20, column 7", ""),
        ] {
            assert!(WHOLE.contains(from), "{from}");
            let text = Spec::parse(&WHOLE.replacen(from, to, 1)).unwrap_err().to_string();
            assert!(text.contains(at) && text.contains(hint), "{to}: {text}");
        }
    }

    proptest! {
        /// Whatever a file holds, it is read or refused at a place that it has.
        #[test]
        fn any_text_is_read_or_refused(start in 0usize..400, length in 0usize..40, junk in "[\\PC\\n]{0,12}") {
            let mut text = WHOLE.to_owned();
            let start = start.min(text.len());
            text.replace_range(start..(start + length).min(text.len()), &junk);
            if let Err(error) = Spec::parse(&text) {
                let line = text.split('\n').nth(error.place.line - 1);
                prop_assert!(line.is_some_and(|line| error.place.column <= line.chars().count() + 1), "{}", error);
            }
        }
    }
}
