//! `GET /manage/fit`.

use crate::http::guard::Caller;
use crate::http::problem::Problem;
use crate::manage::fitting::{self, Ask, AskError, Subject};
use actix_web::{HttpResponse, web};
use serde::Deserialize;
use std::borrow::Cow;
use std::path::{Path, PathBuf};
use utoipa::IntoParams;
use vastrelay_control::endpoints::registry::Endpoints;
use vastrelay_control::placement::loader::Loader;
use vastrelay_planner::arithmetic::{of_memory, of_step};
use vastrelay_planner::hardware::of_profiles;
use vastrelay_planner::terms::{Amount, Term};
use vastrelay_planner::{DeviceProfile, Hardware, Question, SplitFit, Typical};
use vastrelay_serving::{KvPrecision, Precision};
use vastrelay_wire::error::ErrorEnvelope;
use vastrelay_wire::manage::{FitAnswer, FitDevice, FitPoint, FitTerm, FitWay};

/// Numbers of callers that the curve has, as far as the batch holds them twice.
const CALLERS: [usize; 13] = [1, 2, 4, 8, 12, 16, 24, 32, 48, 64, 96, 128, 256];

/// What `GET /manage/fit` is asked.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub struct FitQuery {
    /// An endpoint, or the path of a folder, a GGUF file or a config on the service's machine.
    model: String,
    /// The kind of device.
    #[serde(default = "a_device")]
    device: String,
    /// The number of devices to look at more closely; the least that does when absent.
    split: Option<usize>,
    /// The precision of weights.
    #[serde(default = "as_stored")]
    weights: String,
    /// Weights per scale.
    group: Option<usize>,
    /// The precision of keys and values.
    kv: Option<String>,
    /// Most tokens of a sequence; the model's own when absent.
    context: Option<usize>,
    /// Maximum sequences in a batch.
    width: Option<usize>,
    /// Most tokens in a step.
    step_budget: Option<usize>,
    /// Fraction of each device's memory.
    memory_share: Option<f64>,
    /// Tokens of a typical prompt; three of four of the context's, at most 1,536, when it and `answer` are absent.
    prompt: Option<usize>,
    /// Tokens of a typical answer; a quarter of the context's, at most 512, when it and `prompt` are absent.
    answer: Option<usize>,
    /// Sequences at full context that have to fit at once.
    concurrency: Option<usize>,
}

fn a_device() -> String {
    "sim-48g".into()
}

fn as_stored() -> String {
    "as-stored".into()
}

/// `GET /manage/fit`: whether a model fits devices of a kind, over how many of them, and what callers would see. Nothing is loaded.
///
/// # Errors
/// 400 when the model cannot be read, or a part of the question cannot be.
#[utoipa::path(get, path = "/manage/fit", tag = "manage", params(FitQuery), responses(
    (status = 200, body = FitAnswer), (status = "4XX", body = ErrorEnvelope)))]
pub async fn fit(
    endpoints: web::Data<Endpoints>,
    loader: web::Data<Loader>,
    query: web::Query<FitQuery>,
    caller: web::ReqData<Caller>,
) -> Result<HttpResponse, Problem> {
    let served = endpoints.get(&query.model).ok();
    let path = served.map(|endpoint| endpoint.source().to_owned());
    let path = match path {
        Some(path) => path,
        None if caller.is_operator() => PathBuf::from(&query.model),
        None => {
            let beneath = loader.beneath_a_root(Path::new(&query.model));
            beneath.map_err(|text| Problem::field("model", text))?
        }
    };
    // Files are read.
    let answer = web::block(move || answer(&loader, &query, &path)).await;
    let answer = answer.map_err(|error| Problem::internal(error.to_string()))??;
    Ok(HttpResponse::Ok().json(answer))
}

fn answer(loader: &Loader, query: &FitQuery, path: &Path) -> Result<FitAnswer, Problem> {
    let subject = Subject::open(path).map_err(|text| Problem::field("model", text))?;
    let shipped = DeviceProfile::shipped();
    let cpu = loader.cpu();
    let mut known = of_profiles(&shipped);
    known.extend(cpu.iter().map(|cpu| cpu as &dyn Hardware));
    let simulated = loader.devices.all();
    let own = simulated.iter().filter_map(|device| device.profile());
    known.extend(own.filter(|own| !shipped.contains(own)).map(|own| own as &dyn Hardware));
    let Some(hardware) = known.iter().copied().find(|known| known.name() == query.device) else {
        return Err(Problem::field("device", unknown(&query.device, &known)));
    };
    let ask = asked(query)?;
    let stored = |tensor: &str| subject.kind(tensor);
    let question = ask.question(&subject.description, &stored, hardware.usual())?;
    let fits = question.splits(hardware, hardware.count());
    let ways: Vec<FitWay> = fits.iter().map(|fit| fitting::way(&question, hardware, fit)).collect();
    let least = || fits.iter().find(|fit| fit.verdict.is_ok()).map(|fit| fit.split);
    let chosen = query.split.or_else(least);
    let closer = chosen.and_then(|split| Closer::new(&question, hardware, fits.get(split.checked_sub(1)?)?));
    let command = closer
        .as_ref()
        .map(|_| command(query, path, &question, chosen.unwrap_or(1)));
    let Closer { memory, step, curve } = closer.unwrap_or_default();
    Ok(FitAnswer {
        report: fitting::report(&subject.name, &question, ways, &known),
        model_context: subject.description.context,
        device: device(hardware),
        devices: known.iter().map(|known| device(*known)).collect(),
        chosen,
        memory,
        step,
        curve,
        command,
    })
}

fn asked(query: &FitQuery) -> Result<Ask, Problem> {
    let weights = Precision::of(&query.weights, query.group).map_err(|text| Problem::field("weights", text))?;
    let kv = match query.kv.as_deref() {
        None => KvPrecision::default(),
        Some(word) => KvPrecision::of(word)
            .ok_or_else(|| Problem::field("kv", format!("`{word}` is not a KV precision; use f32, bf16 or int8")))?,
    };
    let tokens = |field, other: &str, wanted: Option<usize>| match wanted {
        Some(tokens @ 1..=0x100_0000) => Ok(tokens),
        Some(wrong) => Err(Problem::field(
            field,
            format!("{wrong} does not work; use 1 to 16777216"),
        )),
        None => Err(Problem::field(
            field,
            format!("it is missing beside `{other}`; say both, or neither"),
        )),
    };
    let typical = match (query.prompt, query.answer) {
        (None, None) => None,
        (prompt, answer) => Some(Typical {
            prompt: tokens("prompt", "answer", prompt)?,
            output: tokens("answer", "prompt", answer)?,
        }),
    };
    Ok(Ask {
        weights,
        kv,
        count: None,
        context: query.context,
        width: query.width,
        step_budget: query.step_budget,
        memory_share: query.memory_share,
        typical,
        concurrency: query.concurrency,
    })
}

impl From<AskError> for Problem {
    fn from(error: AskError) -> Problem {
        Problem::field(error.field, error.text)
    }
}

/// Says which devices there are; the processor is there once its speed is known.
fn unknown(wanted: &str, known: &[&dyn Hardware]) -> String {
    let names: Vec<&str> = known.iter().map(|known| known.name()).collect();
    let names = names.join(", ");
    if wanted == "cpu" {
        return format!(
            "how fast this machine's cpu is has not been measured: `vastrelay device measure` does; or use {names}"
        );
    }
    format!("there is no device `{wanted}`; use {names}")
}

fn device(hardware: &dyn Hardware) -> FitDevice {
    FitDevice {
        name: hardware.name().to_owned(),
        simulated: hardware.is_simulated(),
        count: hardware.count(),
        memory: hardware.memory(),
        price: hardware.price(),
        currency: hardware.currency().map(Into::into),
    }
}

/// What is told of one number of devices.
#[derive(Default)]
struct Closer {
    memory: Vec<FitTerm>,
    step: Vec<FitTerm>,
    curve: Vec<FitPoint>,
}

impl Closer {
    /// Returns nothing where it does not fit.
    fn new(question: &Question<'_>, hardware: &dyn Hardware, fit: &SplitFit) -> Option<Closer> {
        let (split, fitting) = (fit.split, fit.verdict.as_ref().ok()?);
        let (_, _, step) = of_step(question, hardware, split, fitting);
        let callers: Vec<usize> = CALLERS
            .into_iter()
            .filter(|callers| *callers <= 2 * question.width)
            .collect();
        let predicted = question.predictions(hardware, split, fitting.plan.typical_sequences().in_pool, &callers);
        let point = |(concurrency, predicted)| FitPoint {
            concurrency,
            predicted: fitting::prediction(predicted),
        };
        Some(Closer {
            memory: of_memory(question, hardware, split, fitting)
                .into_iter()
                .map(term)
                .collect(),
            step: step.into_iter().map(term).collect(),
            curve: callers.into_iter().zip(&predicted).map(point).collect(),
        })
    }
}

fn term(term: Term) -> FitTerm {
    let (amount, unit) = match term.amount {
        Amount::Bytes(bytes) => (bytes as f64, "bytes"),
        Amount::Count(count) => (count as f64, "count"),
        Amount::Seconds(seconds) => (seconds, "seconds"),
    };
    FitTerm {
        name: term.name.to_owned(),
        amount,
        unit: unit.to_owned(),
        formula: term.formula,
    }
}

/// Returns the command that serves the model so.
fn command(query: &FitQuery, path: &Path, question: &Question<'_>, split: usize) -> String {
    let path = std::path::absolute(path).unwrap_or_else(|_| path.to_owned());
    let folder = if path.ends_with("config.json") {
        path.parent().unwrap_or(&path)
    } else {
        &path
    };
    let name = folder.file_stem().unwrap_or_default().to_string_lossy();
    let is_plain = |c: char| c.is_ascii_alphanumeric() || "-_.".contains(c);
    let name: String = name.chars().filter(|c| is_plain(*c)).collect();
    let name = if name.is_empty() { "model" } else { &name };
    let folder = folder.display().to_string();
    let named = format!("{name}={}", quoted(&folder));
    let weights = question.precisions.weights;
    let group = weights
        .group()
        .map_or(String::new(), |group| format!(" --group {group}"));
    format!(
        "vastrelay start --model {named} --device {} --split {split} --weights {}{group} --kv {} --context {} --width {} --step-budget {} \
         --typical {}+{} --memory-share {}",
        quoted(&query.device),
        weights.word(),
        question.precisions.kv.name(),
        question.context,
        question.width,
        question.step_budget,
        question.typical.prompt,
        question.typical.output,
        question.memory_share
    )
}

/// Returns a word as a shell takes it; no word has a zero byte here, as paths and names have none.
fn quoted(word: &str) -> Cow<'_, str> {
    shlex::try_quote(word).unwrap_or(Cow::Borrowed(word))
}

#[cfg(test)]
mod tests {
    use super::quoted;

    #[test]
    fn a_shell_takes_each_word_as_it_is() {
        assert_eq!(quoted("/models/a-b_c.d"), "/models/a-b_c.d");
        let path = "/my models/it's";
        let word = format!("a={}", quoted(path));
        assert_eq!(shlex::split(&word), Some(vec![format!("a={path}")]));
    }
}
