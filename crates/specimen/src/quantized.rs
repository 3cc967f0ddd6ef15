//! Checkpoints whose matrices are quantized as publishers do it, for tests: rounded plainly and packed in their layouts.

use half::f16;
use safetensors::tensor::{Dtype, TensorView, serialize_to_file};
use serde_json::{Value, json};
use std::io;
use std::path::Path;
use vastrelay_weights::Checkpoint;

/// How matrices are stored.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Method {
    /// 4 bits, eight outputs to a word, the even ones before the odd; groups of 64 inputs.
    ActivationAware,
    /// 4 bits, eight inputs to a word; groups of 64 inputs, side by side or, `reordered`, each of every so manieth input.
    ErrorCompensating {
        /// Whether the groups' inputs lie apart.
        reordered: bool,
    },
    /// 8-bit floats with a scale for each output.
    Fp8,
}

const GROUP: usize = 64;

struct Stored {
    name: String,
    dtype: Dtype,
    shape: Vec<usize>,
    bytes: Vec<u8>,
}

/// Writes a folder's model into another folder, with the matrices of its layers quantized.
///
/// # Errors
/// When a file cannot be read or written, or the model's widths are no multiples of 64.
pub fn write(from: &Path, to: &Path, method: Method) -> io::Result<()> {
    std::fs::create_dir_all(to)?;
    for entry in std::fs::read_dir(from)?.flatten() {
        // Its weights, in one file or several, are written anew.
        if !entry.file_name().to_string_lossy().starts_with("model") {
            std::fs::copy(entry.path(), to.join(entry.file_name()))?;
        }
    }
    let mut config: Value = serde_json::from_slice(&std::fs::read(from.join("config.json"))?)?;
    config["quantization_config"] = match method {
        Method::ActivationAware => json!({"quant_method": "awq", "bits": 4, "group_size": GROUP, "version": "gemm"}),
        Method::ErrorCompensating { reordered } => {
            json!({"quant_method": "gptq", "bits": 4, "group_size": GROUP, "desc_act": reordered})
        }
        Method::Fp8 => json!({"quant_method": "fp8"}),
    };
    std::fs::write(to.join("config.json"), config.to_string())?;
    let description = vastrelay_weights::ModelDescription::open(from).map_err(io::Error::other)?;
    let checkpoint = Checkpoint::open(from).map_err(io::Error::other)?;
    let mut stored = Vec::new();
    for (name, shape) in description.tensors() {
        let values = checkpoint.tensor(&name, &shape).map_err(io::Error::other)?.to_f32();
        match name.strip_suffix("_proj.weight") {
            Some(stem) => stored.extend(quantize(&format!("{stem}_proj"), &values, shape[1], method)),
            None => stored.push(floats(name, Dtype::F32, shape, &values)),
        }
    }
    let views = stored.iter().map(|part| {
        let view = TensorView::new(part.dtype, part.shape.clone(), &part.bytes).map_err(io::Error::other)?;
        Ok((part.name.as_str(), view))
    });
    let views = views.collect::<io::Result<Vec<_>>>()?;
    serialize_to_file(views, None, &to.join("model.safetensors")).map_err(io::Error::other)
}

fn floats(name: String, dtype: Dtype, shape: Vec<usize>, values: &[f32]) -> Stored {
    let bytes = match dtype {
        Dtype::F16 => values.iter().flat_map(|v| f16::from_f32(*v).to_le_bytes()).collect(),
        _ => values.iter().flat_map(|v| v.to_le_bytes()).collect(),
    };
    Stored {
        name,
        dtype,
        shape,
        bytes,
    }
}

fn words(name: String, shape: [usize; 2], words: &[u32]) -> Stored {
    assert_eq!(words.len(), shape[0] * shape[1], "{name}");
    Stored {
        name,
        dtype: Dtype::I32,
        shape: shape.to_vec(),
        bytes: words.iter().flat_map(|word| word.to_le_bytes()).collect(),
    }
}

/// Packs numbers of four bits, eight to a word; `place` tells where in a word each of the eight lies.
fn pack(numbers: impl Iterator<Item = u32>, place: impl Fn(usize) -> usize) -> Vec<u32> {
    let numbers: Vec<u32> = numbers.collect();
    let word = |eight: &[u32]| {
        eight
            .iter()
            .enumerate()
            .map(|(at, number)| number << (4 * place(at)))
            .sum()
    };
    numbers.chunks_exact(8).map(word).collect()
}

fn quantize(stem: &str, values: &[f32], inputs: usize, method: Method) -> Vec<Stored> {
    let outputs = values.len() / inputs;
    if method == Method::Fp8 {
        return fp8(stem, values, inputs);
    }
    let groups = inputs / GROUP;
    assert!(
        inputs.is_multiple_of(GROUP) && outputs.is_multiple_of(8),
        "{stem}: {outputs} by {inputs}"
    );
    let reordered = method == Method::ErrorCompensating { reordered: true };
    let group_of = |input: usize| if reordered { input % groups } else { input / GROUP };
    // `[groups, outputs]`.
    let (mut scales, mut zeros) = (vec![0.0; groups * outputs], vec![0; groups * outputs]);
    for group in 0..groups {
        for output in 0..outputs {
            let row = values[output * inputs..(output + 1) * inputs].iter().enumerate();
            let mine = row
                .filter(|(input, _)| group_of(*input) == group)
                .map(|(_, value)| *value);
            let (low, high) = mine.fold((0.0f32, 0.0f32), |(low, high), v| (low.min(v), high.max(v)));
            let scale = f16::from_f32(((high - low) / 15.0).max(1e-4)).to_f32();
            scales[group * outputs + output] = scale;
            zeros[group * outputs + output] = (-low / scale).round().clamp(1.0, 15.0) as u32;
        }
    }
    let number = |output: usize, input: usize| {
        let at = group_of(input) * outputs + output;
        let steps = (values[output * inputs + input] / scales[at]).round() as i32 + zeros[at] as i32;
        steps.clamp(0, 15) as u32
    };
    let part = |name: &str| format!("{stem}.{name}");
    let scales = floats(part("scales"), Dtype::F16, vec![groups, outputs], &scales);
    if method == Method::ActivationAware {
        // Outputs 0, 2, 4, 6, 1, 3, 5, 7 from the lowest bits up.
        let place = |at: usize| at / 2 + at % 2 * 4;
        let numbers = (0..inputs).flat_map(|input| (0..outputs).map(move |output| (output, input)));
        let packed = pack(numbers.map(|(output, input)| number(output, input)), place);
        let zeros = pack(zeros.into_iter(), place);
        return vec![
            words(part("qweight"), [inputs, outputs / 8], &packed),
            words(part("qzeros"), [groups, outputs / 8], &zeros),
            scales,
        ];
    }
    let numbers = (0..inputs / 8).flat_map(|word| {
        (0..outputs).flat_map(move |output| (word * 8..word * 8 + 8).map(move |input| (output, input)))
    });
    let packed = pack(numbers.map(|(output, input)| number(output, input)), |at| at);
    // Zero points are stored less one.
    let zeros = pack(zeros.into_iter().map(|zero| zero - 1), |at| at);
    let order: Vec<u32> = (0..inputs).map(|input| group_of(input) as u32).collect();
    vec![
        words(part("qweight"), [inputs / 8, outputs], &packed),
        words(part("qzeros"), [groups, outputs / 8], &zeros),
        scales,
        Stored {
            shape: vec![inputs],
            ..words(part("g_idx"), [inputs, 1], &order)
        },
    ]
}

fn fp8(stem: &str, values: &[f32], inputs: usize) -> Vec<Stored> {
    let outputs = values.len() / inputs;
    // The values of all bytes without a sign, which grow with the byte.
    let steps: Vec<f32> = (0..127u8).map(magnitude).collect();
    let (mut bytes, mut scales) = (Vec::with_capacity(values.len()), Vec::with_capacity(outputs));
    for row in values.chunks_exact(inputs) {
        let scale = row.iter().fold(0.0f32, |most, value| most.max(value.abs())) / steps[126];
        bytes.extend(row.iter().map(|value| {
            let size = value.abs() / scale;
            let above = steps.partition_point(|step| *step < size).min(126);
            let nearer = above > 0 && size - steps[above - 1] < steps[above] - size;
            (above - usize::from(nearer)) as u8 | if *value < 0.0 { 0x80 } else { 0 }
        }));
        scales.push(scale);
    }
    vec![
        Stored {
            name: format!("{stem}.weight"),
            dtype: Dtype::F8_E4M3,
            shape: vec![outputs, inputs],
            bytes,
        },
        floats(format!("{stem}.weight_scale"), Dtype::F32, vec![outputs, 1], &scales),
    ]
}

fn magnitude(byte: u8) -> f32 {
    let (exponent, fraction) = (i32::from(byte >> 3), f32::from(byte & 7) / 8.0);
    if exponent == 0 {
        fraction * 2f32.powi(-6)
    } else {
        (1.0 + fraction) * 2f32.powi(exponent - 7)
    }
}
