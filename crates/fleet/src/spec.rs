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

mod mistake;
mod values;
mod written;

use crate::answering::{Answering, Defaults, Mode, NamedToken, PENALTIES, REPETITION_PENALTIES, SHARES, TEMPERATURES};
use crate::core_share::CoreShare;
use crate::cores::CoreRequest;
use crate::settings::Settings;
use crate::upkeep::Upkeep;
use serde::Serialize;
use std::collections::BTreeMap;
use std::fmt;
use std::ops::{Range, RangeInclusive};
use std::time::Duration;
use toml::Spanned;
use values::{Count, Names, Number, Time};
use vastrelay_planner::Typical;
use vastrelay_weights::Precision;
use vastrelay_weights::precision::KvPrecision;
use written::{Written, WrittenDefaults};

/// What an endpoint is to be.
#[derive(Clone, Debug, PartialEq)]
pub struct Spec {
    /// The model's path, as it is written: from the file's folder.
    pub model: String,
    /// How it is to be run.
    pub settings: Settings,
    /// How calls are to be answered.
    pub answering: Answering,
    /// When it parks, stops, and gives up a start.
    pub upkeep: Upkeep,
    /// Where each key is that is written.
    places: BTreeMap<&'static str, SpecPosition>,
}

/// A place in a file, both counted from 1.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
pub struct SpecPosition {
    /// The line.
    pub line: usize,
    /// The character in it.
    pub column: usize,
}

/// Most stop tokens.
const MOST_STOP_TOKENS: usize = 64;

/// A spec cannot be used.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{place}: {text}")]
pub struct SpecError {
    /// Where.
    pub place: SpecPosition,
    /// The mistake, and a value that would work.
    pub text: String,
}

impl fmt::Display for SpecPosition {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "line {}, column {}", self.line, self.column)
    }
}

impl Spec {
    /// Reads a spec.
    ///
    /// # Errors
    /// When it is no TOML, has a key that specs have not, or a value that cannot be; the error says where.
    pub fn parse(text: &str) -> Result<Spec, SpecError> {
        let written: Written = toml::from_str(text).map_err(|error| SpecError {
            place: place(text, error.span().map_or(0, |span| span.start)),
            text: mistake::in_words(error.message()),
        })?;
        let mut reader = Reader {
            text,
            places: BTreeMap::new(),
        };
        let model = reader.take("model", Some(written.model), non_empty)?;
        let (precision, device, memory) = (written.precision, written.device, written.memory);
        let (batch, queue) = (written.batch, written.queue);
        let limits = written.limits;
        let settings = Settings {
            weights: reader.weights(precision.weights, precision.group)?,
            kv: reader.take("precision.kv", precision.kv, kv)?,
            devices: reader.take("device.profile", device.profile, |Names(names)| Ok(names))?,
            split: reader.count("device.split", device.split)?,
            cores: reader.take("device.cores", device.cores, cores)?,
            memory_share: reader.take("memory.share", memory.share, |Number(share)| Ok(share))?,
            pages: reader.count("memory.pages", memory.pages)?,
            width: reader.count("batch.width", batch.width)?,
            step_budget: reader.count("batch.step_budget", batch.step_budget)?,
            prefill_chunk: reader.count("batch.prefill_chunk", batch.prefill_chunk)?,
            context: reader.count("batch.context", batch.context)?,
            typical: reader.take("batch.typical", batch.typical, |text| text.parse::<Typical>())?,
            queue_depth: reader.count("queue.depth", queue.depth)?,
            queue_wait: reader.time("queue.wait", queue.wait)?,
        };
        let answering = Answering {
            mode: reader.take("mode", written.mode, mode)?,
            template: reader.take("template", written.template, non_empty_template)?,
            defaults: reader.defaults(written.defaults)?,
            stop_tokens: reader
                .take("tokens.stop", written.tokens.stop, few_tokens)?
                .unwrap_or_default(),
            keeps_texts: reader.take("records.texts", written.records.texts, Ok)?,
            longest_wait: reader.time("limits.wait", limits.wait)?,
            longest_answer: reader.time("limits.answer", limits.answer)?,
        };
        let upkeep = Upkeep {
            longest_start: reader.time("limits.start", limits.start)?,
            idle_after: reader.time("replicas.idle_after", written.replicas.idle_after)?,
            stop_after: reader.time("stop_after", written.stop_after)?,
        };
        if answering.mode == Some(Mode::Plain) && answering.template.is_some() {
            return Err(reader.refuse(
                "template",
                "only conversations have one; leave it out or use mode = \"chat\"",
            ));
        }
        Ok(Spec {
            model: model.unwrap_or_default(),
            settings,
            answering,
            upkeep,
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
            place: place.unwrap_or(SpecPosition { line: 1, column: 1 }),
            text,
        }
    }
}

/// Takes values and notes where they are.
struct Reader<'a> {
    text: &'a str,
    places: BTreeMap<&'static str, SpecPosition>,
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

    fn time(&mut self, key: &'static str, value: Option<Spanned<Time>>) -> Result<Option<Duration>, SpecError> {
        self.take(key, value, time)
    }

    /// Reads a number that lies in a range.
    fn number(
        &mut self,
        key: &'static str,
        value: Option<Spanned<Number>>,
        range: RangeInclusive<f32>,
    ) -> Result<Option<f32>, SpecError> {
        self.take(key, value, |Number(value)| {
            let value = value as f32;
            if range.contains(&value) {
                return Ok(value);
            }
            Err(format!(
                "{value} does not work; use {} to {}",
                range.start(),
                range.end()
            ))
        })
    }

    fn defaults(&mut self, written: WrittenDefaults) -> Result<Defaults, SpecError> {
        let repetition = written.repetition_penalty;
        Ok(Defaults {
            temperature: self.number("defaults.temperature", written.temperature, TEMPERATURES)?,
            top_p: self.number("defaults.top_p", written.top_p, SHARES)?,
            top_k: self.take("defaults.top_k", written.top_k, small)?,
            min_p: self.number("defaults.min_p", written.min_p, SHARES)?,
            repetition_penalty: self.number("defaults.repetition_penalty", repetition, REPETITION_PENALTIES)?,
            presence_penalty: self.number("defaults.presence_penalty", written.presence_penalty, PENALTIES)?,
            frequency_penalty: self.number("defaults.frequency_penalty", written.frequency_penalty, PENALTIES)?,
            max_tokens: self.take("defaults.max_tokens", written.max_tokens, small)?,
        })
    }

    /// Returns the error that a key that is written cannot be.
    fn refuse(&self, key: &str, text: &str) -> SpecError {
        let place = self.places.get(key).copied();
        SpecError {
            place: place.unwrap_or(SpecPosition { line: 1, column: 1 }),
            text: format!("`{key}`: {text}"),
        }
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

    fn note(&mut self, key: &'static str, span: Range<usize>) -> SpecPosition {
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

fn cores(Number(cores): Number) -> Result<CoreRequest, String> {
    CoreShare::of(cores).map(CoreRequest::Named)
}

fn time(Time(text): Time) -> Result<Duration, String> {
    let read = humantime::parse_duration(&text).ok().filter(|time| !time.is_zero());
    read.ok_or_else(|| format!("`{text}` is not a length of time; use one such as 30s or 2m"))
}

fn mode(word: String) -> Result<Mode, String> {
    Mode::of(&word).ok_or_else(|| format!("`{word}` is not a mode; use chat or plain"))
}

fn non_empty_template(path: String) -> Result<String, String> {
    if path.is_empty() {
        Err("write the path of a file with a chat template".into())
    } else {
        Ok(path)
    }
}

fn few_tokens(tokens: Vec<NamedToken>) -> Result<Vec<NamedToken>, String> {
    if tokens.len() > MOST_STOP_TOKENS {
        return Err(format!(
            "{} tokens are too many; name at most {MOST_STOP_TOKENS}",
            tokens.len()
        ));
    }
    Ok(tokens)
}

fn small(Count(count): Count) -> Result<u32, String> {
    u32::try_from(count).map_err(|_| format!("{count} does not work; use 1 to {}", u32::MAX))
}

/// Returns the place of a byte.
fn place(text: &str, at: usize) -> SpecPosition {
    let before = text.get(..at).unwrap_or(text);
    let line = before.rsplit('\n').next().unwrap_or("");
    SpecPosition {
        line: before.matches('\n').count() + 1,
        column: line.chars().count() + 1,
    }
}

#[cfg(test)]
mod tests {
    use super::written::{GROUPS, KV, MODES, WEIGHTS};
    use super::*;
    use proptest::prelude::*;

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
[defaults]
temperature = 0.5
top_p = 0.9
top_k = 40
min_p = 0.05
repetition_penalty = 1.1
presence_penalty = -1
frequency_penalty = 0.25
max_tokens = 200
[tokens]
stop = ["<|pause|>", 7]
[records]
texts = false
[limits]
start = "5m"
wait = "20s"
answer = "2m"
[replicas]
idle_after = "10m"
"#;

    /// What stands before the first table.
    const FIRST: &str = "mode = \"chat\"\ntemplate = \"desk.jinja\"\nstop_after = \"12h\"\n";

    /// Returns a spec with every key.
    fn whole() -> String {
        WHOLE.replacen("\n[precision]", &format!("\n{FIRST}[precision]"), 1)
    }

    #[test]
    fn every_key_is_read() {
        let spec = Spec::parse(&whole()).unwrap();
        assert_eq!(spec.model, "shapes/lighthouse-70b");
        let expected = Settings {
            weights: Precision::of("int4", Some(64)).ok(),
            kv: Some(KvPrecision::Int8),
            devices: Some(vec!["sim-48g".into(), "own.toml".into()]),
            split: Some(4),
            cores: Some(CoreRequest::Named(CoreShare::whole(2))),
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
        assert_eq!(refused.to_string(), "line 21, column 11: too long");
        let answering = Answering {
            mode: Some(Mode::Chat),
            template: Some("desk.jinja".into()),
            defaults: Defaults {
                temperature: Some(0.5),
                top_p: Some(0.9),
                top_k: Some(40),
                min_p: Some(0.05),
                repetition_penalty: Some(1.1),
                presence_penalty: Some(-1.0),
                frequency_penalty: Some(0.25),
                max_tokens: Some(200),
            },
            stop_tokens: vec![NamedToken::Text("<|pause|>".into()), NamedToken::Id(7)],
            keeps_texts: Some(false),
            longest_wait: Some(Duration::from_secs(20)),
            longest_answer: Some(Duration::from_secs(120)),
        };
        assert_eq!(spec.answering, answering);
        let upkeep = Upkeep {
            longest_start: Some(Duration::from_secs(300)),
            idle_after: Some(Duration::from_secs(600)),
            stop_after: Some(Duration::from_secs(12 * 3600)),
        };
        assert_eq!(spec.upkeep, upkeep);
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
        let written = Spec::parse(&whole()).unwrap().places;
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
        for word in MODES {
            assert!(
                Spec::parse(&format!("model = \"m\"\nmode = \"{word}\"")).is_ok(),
                "{word}"
            );
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
            (
                "cores = 2",
                "cores = 1.5",
                "line 10, column 9",
                "a whole number, or a fraction of a core",
            ),
            ("cores = 2", "cores = 0", "line 10, column 9", "0 does not work"),
            ("cores = 2", "cores = true", "line 10, column 9", "a number"),
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
            ("ature = 0.5", "ature = 3", "line 24, column 15", "0 to 2"),
            ("top_p = 0.9", "top_p = -0.1", "line 25, column 9", "0 to 1"),
            ("top_k = 40", "top_k = 0", "line 26, column 9", "from 1 on"),
            ("penalty = 1.1", "penalty = 0", "line 28, column 22", "0.01 to 10"),
            ("penalty = -1", "penalty = 2.5", "line 29, column 20", "-2 to 2"),
            ("= 200", "= 5_000_000_000", "line 31, column 14", "1 to 4294967295"),
            ("7]", "-7]", "line 33, column 22", "a token's text or its number"),
            ("texts = false", "texts = 0", "line 35, column 9", "a boolean"),
            ("\"20s\"", "\"\"", "line 38, column 8", "30s"),
            ("\"10m\"", "true", "line 41, column 14", "a length of time"),
            (
                "[precision]",
                "mode = \"talk\"\n[precision]",
                "line 3, column 8",
                "chat or plain",
            ),
            (
                "[precision]",
                "mode = \"plain\"\ntemplate = \"t\"\n[precision]",
                "line 4, column 12",
                "leave it out",
            ),
            (
                "[precision]",
                "template = \"\"\n[precision]",
                "line 3, column 12",
                "a chat template",
            ),
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
