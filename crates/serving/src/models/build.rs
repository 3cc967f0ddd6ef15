//! Making a build: a model converted once, with what that costs measured.

use crate::error::LoadError;
use crate::models::model::{CONFIG, MOST_TEXT, TEXTS};
use crate::models::origin::Origin;
use crate::models::quality::{Quality, measure, tokens};
use serde_json::{Map, Value, json};
use std::path::{Path, PathBuf};
use vastrelay_engine::PAGE_TOKENS;
use vastrelay_engine::cpu::{BuildOrder, CalibrationStep, CpuSettings, Rounded, build, calibrate, calibration_bytes};
use vastrelay_engine::likelihood::{agreement, loss};
use vastrelay_kernels::Isa;
use vastrelay_kernels::attention::KvPrecision;
use vastrelay_weights::{ModelDescription, ModelFiles, Precision, Precisions};

/// Tokens of the calibrating text that are read together.
const WINDOW: usize = 256;
/// Characters of texts that are read at most, for loss and for calibration.
const MOST: usize = 24_000;
/// What loss is measured on unless a text is given.
const SAMPLE: &str = include_str!("sample.txt");

/// What is to be built.
pub struct BuildRequest {
    /// A checkpoint.
    pub source: PathBuf,
    /// The folder to be made.
    pub out: PathBuf,
    /// The precision of its matrices.
    pub weights: Precision,
    /// KV cache precision unless the caller asks for another.
    pub kv: KvPrecision,
    /// A text for rounding to look at, with its name.
    pub calibrate: Option<(String, String)>,
    /// A text that loss is measured on.
    pub text: Option<String>,
    /// Cores to use.
    pub cores: usize,
    /// Most bytes that calibration may take.
    pub memory: usize,
}

/// How far a build has come.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum BuildPhase {
    /// The source reads the text; so many tokens of all.
    Before(usize, usize),
    /// The calibrating text is read; so many tokens of all.
    Reading(usize, usize),
    /// Matrices are rounded; so many of all.
    Rounding(usize, usize),
    /// Everything is packed and written.
    Writing,
    /// The build reads the text; so many tokens of all.
    After(usize, usize),
}

/// What came of it.
pub struct BuildReport {
    /// Tokens of the text.
    pub tokens: usize,
    /// Mean loss of the source as it is stored, in nats a token.
    pub before: f64,
    /// That of the build.
    pub after: f64,
    /// Share of places with the same most likely token.
    pub agreement: f64,
    /// Bytes of the source's weights once loaded.
    pub source_bytes: usize,
    /// Bytes of the build's.
    pub bytes: usize,
}

/// Makes a build. Nothing is left behind when it fails.
///
/// # Errors
/// When the source cannot be read or run, a setting cannot be, or the folder is there already or cannot be written.
pub fn make(request: &BuildRequest, mut on_phase: impl FnMut(BuildPhase)) -> Result<BuildReport, LoadError> {
    let files = ModelFiles::open(&request.source)?;
    let description = ModelDescription::read(&files)?;
    let Origin::Checkpoint(checkpoint) = Origin::open(&files, &description, None)? else {
        return Err(refused(format!(
            "{} is a build already; build from the checkpoint that it was made from",
            request.source.display()
        )));
    };
    if request.out.exists() {
        return Err(refused(format!("{} is there already", request.out.display())));
    }
    let texts = vec![tokens(
        &request.source,
        request.text.as_deref().unwrap_or(SAMPLE),
        MOST,
    )?];
    let likelihoods = |path: &Path, weights, kv, on_phase: &mut dyn FnMut(usize)| -> Result<Quality, LoadError> {
        let mut read = 0;
        measure(path, &texts, weights, kv, request.cores, |piece| {
            read += piece;
            on_phase(read);
        })
    };
    let total = texts[0].len();
    let before = likelihoods(&request.source, Precision::AsStored, KvPrecision::F32, &mut |read| {
        on_phase(BuildPhase::Before(read, total));
    })?;
    let rounded = match (&request.calibrate, request.weights) {
        (None, _) => Rounded::new(),
        (Some((_, text)), Precision::Groups { bits, group }) => {
            let needed = calibration_bytes(&description);
            if needed > request.memory {
                return Err(refused(format!(
                    "calibrating this model takes {} beside its weights, of {} there are; without --calibrate it can be built",
                    vastrelay_planner::amounts::bytes(needed),
                    vastrelay_planner::amounts::bytes(request.memory)
                )));
            }
            let text = vec![tokens(&request.source, text, MOST)?];
            let window = WINDOW.min(description.context);
            let settings = CpuSettings {
                isa: Isa::detect(),
                cores: request.cores,
                spinning: Default::default(),
                split: 1,
                context: window,
                step_tokens: window,
                width: 1,
                pages: vec![window.div_ceil(PAGE_TOKENS); description.reaches().len()],
                weights: Precision::AsStored,
                kv: KvPrecision::F32,
            };
            calibrate(&checkpoint, &description, &text, (bits, group), settings, |step| {
                on_phase(match step {
                    CalibrationStep::Read(read) => BuildPhase::Reading(read, text[0].len()),
                    CalibrationStep::Rounded(done, all) => BuildPhase::Rounding(done, all),
                });
            })?
        }
        (Some(_), other) => {
            return Err(refused(format!(
                "calibration is for int8 and int4; {other} is not rounded to groups"
            )));
        }
    };
    on_phase(BuildPhase::Writing);
    let partial = partial_of(&request.out);
    // An existing folder is another build under way, or a user's own: it stays as it is.
    std::fs::create_dir(&partial).map_err(|error| unwritable(&partial, &error))?;
    let written = write(&files, &partial, |folder| {
        let order = BuildOrder {
            source: name_of(&request.source),
            precisions: Precisions {
                weights: request.weights,
                kv: request.kv,
            },
            calibrated_on: request.calibrate.as_ref().map(|(name, _)| name.clone()),
        };
        Ok(build(&checkpoint, &description, &order, &rounded, folder)?)
    });
    let after = written.and_then(|()| {
        likelihoods(&partial, Precision::AsStored, request.kv, &mut |read| {
            on_phase(BuildPhase::After(read, total));
        })
    });
    let finished = after.and_then(|after| {
        std::fs::rename(&partial, &request.out).map_err(|error| unwritable(&request.out, &error))?;
        Ok(after)
    });
    let after = finished.inspect_err(|_| drop(std::fs::remove_dir_all(&partial)))?;
    Ok(BuildReport {
        tokens: before.logprobs.len(),
        before: loss(&before.logprobs),
        after: loss(&after.logprobs),
        agreement: agreement(&before.logprobs, &after.logprobs),
        source_bytes: before.weight_bytes,
        bytes: after.weight_bytes,
    })
}

/// What is to be converted.
#[derive(Clone, Debug, PartialEq, serde::Serialize, serde::Deserialize)]
pub struct Conversion {
    /// A checkpoint.
    pub source: PathBuf,
    /// The folder to be made.
    pub out: PathBuf,
    /// The precision of its matrices, and of the KV cache unless the caller asks for another.
    pub precisions: Precisions,
}

/// Converts a checkpoint into a folder that is there whole or not at all. What that costs is not measured.
///
/// # Errors
/// As of [`make`].
pub fn convert(conversion: &Conversion) -> Result<(), LoadError> {
    let Conversion {
        source,
        out,
        precisions,
    } = conversion;
    vastrelay_files::take_working_directory(source).map_err(|error| unwritable(source, &error))?;
    let files = ModelFiles::open(source)?;
    let description = ModelDescription::read(&files)?;
    let Origin::Checkpoint(checkpoint) = Origin::open(&files, &description, None)? else {
        return Err(refused(format!("{} is a build already", source.display())));
    };
    let partial = partial_of(out);
    std::fs::create_dir(&partial).map_err(|error| unwritable(&partial, &error))?;
    let written = write(&files, &partial, |folder| {
        let order = BuildOrder {
            source: name_of(source),
            precisions: *precisions,
            calibrated_on: None,
        };
        Ok(build(&checkpoint, &description, &order, &Rounded::new(), folder)?)
    });
    let finished = written.and_then(|()| {
        settle(&partial)
            .and_then(|()| std::fs::rename(&partial, out))
            .map_err(|error| unwritable(out, &error))
    });
    finished.inspect_err(|_| drop(std::fs::remove_dir_all(&partial)))
}

/// Waits until the disk has the files of a folder.
fn settle(folder: &Path) -> std::io::Result<()> {
    for entry in std::fs::read_dir(folder)? {
        std::fs::File::open(entry?.path())?.sync_all()?;
    }
    std::fs::File::open(folder)?.sync_all()
}

/// Returns the folder that a build is in until it is whole.
pub fn partial_of(out: &Path) -> PathBuf {
    let mut partial = out.to_owned().into_os_string();
    partial.push(".partial");
    PathBuf::from(partial)
}

/// Returns the bytes that a checkpoint's weights take once converted.
///
/// # Errors
/// When it cannot be read.
pub fn converted_bytes(files: &ModelFiles, weights: Precision) -> Result<usize, LoadError> {
    let description = ModelDescription::read(files)?;
    let origin = Origin::open(files, &description, None)?;
    Ok(origin.weight_bytes(&description, weights, 1))
}

/// Fills an empty folder with a build's texts and, by `weights`, its weights.
fn write(
    files: &ModelFiles,
    folder: &Path,
    weights: impl FnOnce(&Path) -> Result<(), LoadError>,
) -> Result<(), LoadError> {
    let source = files.path();
    if let Some(gguf) = files.gguf() {
        let texts: Map<String, Value> = [
            ("chat_template", gguf.template()),
            ("bos_token", gguf.bound("bos")),
            ("eos_token", gguf.bound("eos")),
        ]
        .into_iter()
        .filter_map(|(name, text)| Some((name.to_owned(), Value::from(text?))))
        .collect();
        put(folder, CONFIG, &Value::Object(gguf.config()?))?;
        put(folder, "tokenizer.json", &gguf.tokenizer()?)?;
        put(folder, "tokenizer_config.json", &Value::Object(texts))?;
        put(
            folder,
            "generation_config.json",
            &json!({"eos_token_id": gguf.end_ids()}),
        )?;
    } else {
        let config = source.join(CONFIG);
        let text = vastrelay_files::read(&config, MOST_TEXT).map_err(|error| unwritable(&config, &error))?;
        let mut config: Map<String, Value> =
            serde_json::from_slice(&text).map_err(|error| refused(format!("{}: {error}", config.display())))?;
        // The build says how its own weights are stored.
        config.remove("quantization_config");
        put(folder, CONFIG, &Value::Object(config))?;
        for name in TEXTS.iter().filter(|name| source.join(name).is_file()) {
            let text = vastrelay_files::read(&source.join(name), MOST_TEXT);
            text.and_then(|text| std::fs::write(folder.join(name), text))
                .map_err(|error| unwritable(&folder.join(name), &error))?;
        }
    }
    weights(folder)
}

fn put(folder: &Path, name: &str, value: &Value) -> Result<(), LoadError> {
    let path = folder.join(name);
    std::fs::write(&path, format!("{value:#}\n")).map_err(|error| unwritable(&path, &error))
}

fn name_of(path: &Path) -> String {
    path.file_name().unwrap_or_default().to_string_lossy().into_owned()
}

fn unwritable(path: &Path, error: &std::io::Error) -> LoadError {
    refused(format!("{} cannot be written: {error}", path.display()))
}

fn refused(reason: String) -> LoadError {
    LoadError::Refused(reason)
}
