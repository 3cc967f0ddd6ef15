//! How fast is this machine's processor? Real steps of three models with generated weights tell.
//!
//! The smallest model lies in the near caches, the largest in memory in all but the narrowest precision.

pub mod cpu;
mod timed;

pub use timed::{Load, TimedModel, TimedStep};

use crate::error::LoadError;
use serde_json::{Value, json};
use vastrelay_engine::phases::StepPhase;
use vastrelay_kernels::Isa;
use vastrelay_kernels::attention::KvPrecision;
use vastrelay_planner::CpuSpeed;
use vastrelay_planner::amounts::count_of;
use vastrelay_planner::cpu::{AttentionRates, KINDS, Products, USUAL_HEAD, USUAL_SHARING, precision_of};
use vastrelay_specimen::Stored;

/// Rows that meet the weights at once: up to the last but two as sequences that decode, then as a prompt.
const ROWS: [usize; 9] = [1, 2, 4, 8, 16, 32, 64, 128, 256];
/// Most sequences that decode together.
const MOST_SEQUENCES: usize = 32;
/// Tokens before those of a row that decodes, or that attention is measured with.
const CACHED: usize = 256;
/// Tokens of one sequence that attention is measured with.
const PARTS: [usize; 4] = [1, 16, 64, 256];
/// How many query heads share each key and value head, and how many numbers each has, where attention is measured.
const HEADS: [(usize, usize); 4] = [
    (1, USUAL_HEAD),
    (USUAL_SHARING, USUAL_HEAD),
    (USUAL_SHARING, 32),
    (USUAL_SHARING, 128),
];
/// Most tokens of a step.
const STEP: usize = 256;

/// The models.
const SHAPES: [Shape; 3] = [(192, 4, 640, 2_048), (384, 8, 1_024, 4_096), (768, 12, 2_304, 8_192)];
/// The model that attention is measured with.
const ATTENTION_SHAPE: Shape = SHAPES[1];

/// Measures with so many cores; `say` hears what is measured.
///
/// # Errors
/// When a file cannot be written, or there is no memory.
///
/// # Panics
/// When a generated model cannot be run.
pub fn measure(isa: Isa, cores: usize, say: &mut dyn FnMut(&str)) -> Result<CpuSpeed, LoadError> {
    measure_on(&SHAPES, isa, cores, say)
}

/// The width of a model, its layers, the width of its MLP and its vocabulary.
type Shape = (usize, usize, usize, usize);

fn measure_on(shapes: &[Shape], isa: Isa, cores: usize, say: &mut dyn FnMut(&str)) -> Result<CpuSpeed, LoadError> {
    let mut speed = CpuSpeed {
        instructions: isa.name().to_owned(),
        cores,
        layer: 0.0,
        element: 0.0,
        choice: 0.0,
        products: Vec::new(),
        attention: Vec::new(),
    };
    for (number, shape) in shapes.iter().copied().enumerate() {
        let folder = tempfile::tempdir().map_err(cannot_write)?;
        vastrelay_specimen::write(folder.path(), &config(shape, USUAL_SHARING, USUAL_HEAD), Stored::Bf16)
            .map_err(cannot_write)?;
        for kind in KINDS {
            say(&format!("model {} of {}, {kind}", number + 1, shapes.len()));
            let kv = KvPrecision::default();
            let mut model = TimedModel::load(folder.path(), load(isa, cores, kind, kv))?;
            speed.products.push(products(&mut model, kind));
            if number == 0 && kind == "bf16" {
                besides(&mut model, &mut speed);
            }
        }
    }
    for (sharing, head) in HEADS {
        let folder = tempfile::tempdir().map_err(cannot_write)?;
        let config = config(ATTENTION_SHAPE, sharing, head);
        vastrelay_specimen::write(folder.path(), &config, Stored::Bf16).map_err(cannot_write)?;
        for kv in [KvPrecision::F32, KvPrecision::Bf16, KvPrecision::Int8] {
            say(&format!(
                "attention, {}, {} of {head} numbers for each KV head",
                kv.name(),
                count_of(sharing, "head")
            ));
            let mut model = TimedModel::load(folder.path(), load(isa, cores, "bf16", kv))?;
            speed.attention.push(attention(&mut model, kv, sharing, head));
        }
    }
    Ok(speed)
}

fn cannot_write(error: std::io::Error) -> LoadError {
    LoadError::Refused(format!("the models to measure with cannot be written: {error}"))
}

fn config((width, layers, mlp_width, vocabulary): Shape, sharing: usize, head: usize) -> Value {
    let heads = width / head;
    json!({
        "architectures": ["LlamaForCausalLM"], "vocab_size": vocabulary, "hidden_size": width, "intermediate_size": mlp_width,
        "num_hidden_layers": layers, "num_attention_heads": heads, "num_key_value_heads": heads / sharing,
        "head_dim": head,
        "rms_norm_eps": 1e-5, "max_position_embeddings": 4_096, "tie_word_embeddings": true
    })
}

fn load(isa: Isa, cores: usize, kind: &str, kv: KvPrecision) -> Load {
    Load {
        isa,
        cores,
        weights: precision_of(kind),
        kv,
        sequences: MOST_SEQUENCES,
        context: CACHED + STEP,
        step: STEP,
    }
}

/// Returns how fast matrices are.
fn products(model: &mut TimedModel, kind: &str) -> Products {
    let description = &model.description;
    let weights = (description.parameters() - description.vocabulary * description.width) as f64;
    let bytes = model.weight_bytes() as f64;
    let rate = |rows: usize| {
        let step = if rows <= MOST_SEQUENCES {
            model.time(rows, 1, CACHED)
        } else {
            model.time(1, rows, 0)
        };
        weights * rows as f64 / step.sum(&[StepPhase::Qkv, StepPhase::Output, StepPhase::GateUp, StepPhase::Down])
    };
    Products {
        weights: kind.to_owned(),
        bytes,
        rows: ROWS.to_vec(),
        rates: ROWS.map(rate).to_vec(),
    }
}

/// Returns how fast attention is.
fn attention(model: &mut TimedModel, kv: KvPrecision, sharing: usize, head: usize) -> AttentionRates {
    let description = &model.description;
    let numbers = (description.heads * description.head_dim * description.layers) as f64;
    let rate = |tokens: usize| {
        let sequences = if tokens == 1 { 8 } else { 1 };
        let step = model.time(sequences, tokens, CACHED);
        let pairs = (sequences * tokens) as f64 * (CACHED as f64 + (tokens as f64 + 1.0) / 2.0);
        pairs * numbers / step.sum(&[StepPhase::Attention])
    };
    AttentionRates {
        kv: kv.name().to_owned(),
        sharing,
        head,
        tokens: PARTS.to_vec(),
        rates: PARTS.map(rate).to_vec(),
    }
}

/// Notes what a step takes besides matrices, attention and head.
fn besides(model: &mut TimedModel, speed: &mut CpuSpeed) {
    let (layers, width) = (model.description.layers as f64, model.description.width as f64);
    let (one, many) = (model.time(1, 1, CACHED), model.time(1, STEP, 0));
    let count_of = [
        StepPhase::Qkv,
        StepPhase::Output,
        StepPhase::GateUp,
        StepPhase::Down,
        StepPhase::Attention,
        StepPhase::Head,
        StepPhase::Choose,
    ];
    let rest = |step: &TimedStep| step.seconds - step.sum(&count_of);
    speed.element = ((rest(&many) - rest(&one)) / ((STEP - 1) as f64 * layers * width)).max(0.0);
    speed.layer = (rest(&one) / layers - width * speed.element).max(0.0);
    speed.choice = one.sum(&[StepPhase::Choose]) / model.description.vocabulary as f64;
}

#[cfg(test)]
mod tests {
    use super::*;
    use vastrelay_planner::{CpuProfile, Profile};

    #[test]
    fn what_is_measured_is_a_profile_that_can_be_read_again() {
        let mut said = 0;
        let speed = measure_on(&SHAPES[..1], Isa::detect(), 1, &mut |_| said += 1).unwrap();
        assert_eq!(said, KINDS.len() + 3 * HEADS.len());
        let profile = CpuProfile {
            speed: Some(speed),
            ..CpuProfile::whole()
        };
        assert_eq!(Profile::parse(&profile.to_toml()), Ok(Profile::Cpu(profile)));
    }
}
