//! The tensors of a folder or a file, read through memory maps.

use crate::blocks::BlockType;
use crate::error::WeightsError;
use crate::float8::{Float8Weights, e4m3};
use crate::gguf::{Gguf, Rows};
use crate::groups::GroupWeights;
use crate::kind::{Kind, group_in_memory};
use crate::map::{FileBytes, map};
use crate::matrix::Matrix;
use crate::model_files::ModelFiles;
use crate::scheme::{PARTS, Packed, Scheme};
use crate::tensor::Tensor;
use safetensors::{Dtype, SafeTensors};
use serde::Deserialize;
use serde_json::{Map, Value};
use std::borrow::Cow;
use std::collections::{BTreeMap, BTreeSet};
use std::ops::Range;
use std::path::{Path, PathBuf};
use std::sync::OnceLock;
use vastrelay_kernels::groups::Bits;

/// A folder of safetensors files, one or sharded, or a GGUF file, mapped into memory.
pub struct Checkpoint {
    folder: PathBuf,
    maps: Vec<FileBytes>,
    tensors: BTreeMap<String, StoredTensor>,
    scheme: Scheme,
}

/// Where the values of a tensor come from.
enum Source<'a> {
    /// They are stored.
    Stored(&'a StoredTensor),
    /// They are small numbers, each times a scale.
    Scaled {
        values: &'a StoredTensor,
        scales: &'a StoredTensor,
        block: [usize; 2],
    },
    /// They are packed with scales and zero points.
    Packed {
        words: &'a StoredTensor,
        zeros: &'a StoredTensor,
        scales: &'a StoredTensor,
        groups: Option<&'a StoredTensor>,
    },
}

struct StoredTensor {
    file: usize,
    stored: Stored,
    shape: Vec<usize>,
    bytes: Range<usize>,
    /// For an index of groups, whether its inputs are in order, once that was looked at.
    in_order: OnceLock<bool>,
}

/// How a tensor's values lie in a file.
#[derive(Clone, Copy)]
enum Stored {
    Safetensors(Dtype),
    Blocks(BlockType, Rows),
}

impl Stored {
    fn name(self) -> String {
        match self {
            Stored::Safetensors(dtype) => format!("{dtype:?}"),
            Stored::Blocks(block, _) => block.name().to_owned(),
        }
    }
}

#[derive(Deserialize)]
struct Index {
    weight_map: BTreeMap<String, String>,
}

impl Checkpoint {
    /// Returns whether a folder holds safetensors under the usual names.
    pub fn is_one(folder: &Path) -> bool {
        ["model.safetensors", "model.safetensors.index.json"]
            .iter()
            .any(|name| folder.join(name).is_file())
    }

    /// Opens a GGUF file, a folder with `model.safetensors`, or one with `model.safetensors.index.json` and the shards it names.
    ///
    /// # Errors
    /// When a file is missing or malformed, or a shard lacks a tensor that the index places in it.
    pub fn open(folder: &Path) -> Result<Checkpoint, WeightsError> {
        Checkpoint::read(&ModelFiles::open(folder)?)
    }

    /// As [`Checkpoint::open`], for a model that is open.
    ///
    /// # Errors
    /// As there.
    pub fn read(files: &ModelFiles) -> Result<Checkpoint, WeightsError> {
        let folder = files.path();
        if let Some(gguf) = files.gguf() {
            return Ok(Checkpoint::of_gguf(gguf));
        }
        let mut checkpoint = Checkpoint {
            folder: folder.to_owned(),
            maps: Vec::new(),
            tensors: BTreeMap::new(),
            scheme: scheme_of(folder)?,
        };
        let index_path = folder.join("model.safetensors.index.json");
        if index_path.is_file() {
            let index: Index = read_json(&index_path)?;
            let shards: BTreeSet<&String> = index.weight_map.values().collect();
            for shard in shards {
                if Path::new(shard).file_name().is_none_or(|name| name != shard.as_str()) {
                    return Err(WeightsError::Field {
                        file: index_path,
                        field: "weight_map".into(),
                        found: format!("`{shard}`"),
                        wanted: "shards are plain file names in the same folder".into(),
                    });
                }
                checkpoint.add_file(&folder.join(shard))?;
            }
            if let Some(name) = index
                .weight_map
                .keys()
                .find(|name| !checkpoint.tensors.contains_key(*name))
            {
                return Err(WeightsError::Missing {
                    name: name.clone(),
                    folder: folder.to_owned(),
                });
            }
        } else if folder.join("model.safetensors").is_file() {
            checkpoint.add_file(&folder.join("model.safetensors"))?;
        } else {
            return Err(WeightsError::NoWeights {
                folder: folder.to_owned(),
                hint: hint(folder),
            });
        }
        Ok(checkpoint)
    }

    /// Returns the folder.
    pub fn folder(&self) -> &Path {
        &self.folder
    }

    /// Returns the names of all tensors, in alphabetical order.
    pub fn names(&self) -> impl Iterator<Item = &str> {
        self.tensors.keys().map(String::as_str)
    }

    /// Returns the bytes of all tensors together, as stored.
    pub fn stored_bytes(&self) -> usize {
        self.tensors.values().map(|place| place.bytes.len()).sum()
    }

    /// Returns what a tensor is read as when nothing is to be lost; 32-bit floats where there is none.
    pub fn kind(&self, name: &str) -> Kind {
        let stem = name.strip_suffix(".weight").unwrap_or(name);
        let place = self
            .tensors
            .get(name)
            .or_else(|| self.tensors.get(&format!("{stem}.qweight")));
        match (place.map(|place| place.stored), self.scheme) {
            (Some(Stored::Safetensors(Dtype::BF16) | Stored::Blocks(BlockType::Bf16, _)), _) => Kind::Bf16,
            (Some(Stored::Safetensors(Dtype::F16) | Stored::Blocks(BlockType::F16, _)), _) => Kind::F16,
            (Some(Stored::Safetensors(Dtype::F8_E4M3)), _) => match self.source(name, &place.expect("a place").shape) {
                Ok(Source::Scaled { block, .. }) => Kind::F8 { block: block[1] },
                _ => Kind::F32,
            },
            (Some(Stored::Blocks(block, _)), _) => match block.parts() {
                Some((bits, group, minima)) => Kind::Groups { bits, group, minima },
                None => Kind::F32,
            },
            (Some(Stored::Safetensors(Dtype::I8)), _) => {
                let place = place.expect("a place");
                let block = match self.source(name, &place.shape) {
                    Ok(Source::Scaled { block, .. }) => block[1],
                    _ => return Kind::F32,
                };
                match group_in_memory(block, place.shape[1]) {
                    Some(group) => Kind::Groups {
                        bits: Bits::Eight,
                        group,
                        minima: false,
                    },
                    None => Kind::F32,
                }
            }
            (
                Some(Stored::Safetensors(Dtype::I32 | Dtype::U32)),
                Scheme::ActivationAware { .. } | Scheme::ErrorCompensating { .. },
            ) => {
                let inputs = self.inputs_of_words(place.expect("a place"));
                let order = self.tensors.get(&format!("{stem}.g_idx"));
                match order.is_none_or(|order| self.is_in_order(order, self.scheme.shared(inputs))) {
                    true => self.scheme.kind(inputs).unwrap_or(Kind::F32),
                    false => Kind::F32,
                }
            }
            _ => Kind::F32,
        }
    }

    /// Returns how many tensors and bytes are stored in which type.
    pub fn types(&self) -> BTreeMap<String, (usize, usize)> {
        let mut types = BTreeMap::new();
        for place in self.tensors.values() {
            let (count, bytes): &mut (usize, usize) = types.entry(place.stored.name()).or_default();
            *count += 1;
            *bytes += place.bytes.len();
        }
        types
    }

    fn of_gguf(gguf: &Gguf) -> Checkpoint {
        let mut tensors = BTreeMap::new();
        for tensor in gguf.tensors.iter().filter(|tensor| !Gguf::is_setting(&tensor.name)) {
            let (name, rows) = gguf.renamed(&tensor.name);
            let place = |shape: &[usize], bytes: Range<usize>| StoredTensor {
                file: 0,
                stored: Stored::Blocks(tensor.stored, rows),
                shape: shape.to_vec(),
                bytes,
                in_order: OnceLock::new(),
            };
            match (gguf.expert_names(&tensor.name), tensor.shape.as_slice()) {
                (Some(name_of), [experts, shape @ ..]) if tensor.bytes.len() >= *experts && *experts > 0 => {
                    let each = tensor.bytes.len() / experts;
                    for expert in 0..*experts {
                        let start = tensor.bytes.start + expert * each;
                        tensors.insert(name_of(expert), place(shape, start..start + each));
                    }
                }
                _ => {
                    tensors.insert(name, place(&tensor.shape, tensor.bytes.clone()));
                }
            }
        }
        Checkpoint {
            folder: gguf.path.clone(),
            maps: vec![gguf.bytes.clone()],
            tensors,
            scheme: Scheme::Plain,
        }
    }

    /// Makes sure that there is a tensor of the given shape and of a type that can be read.
    ///
    /// # Errors
    /// What is wrong.
    pub fn fits(&self, name: &str, shape: &[usize]) -> Result<(), WeightsError> {
        self.source(name, shape).map(drop)
    }

    /// Returns how the matrices are stored.
    pub fn scheme(&self) -> Scheme {
        self.scheme
    }

    /// Returns the matrix that a tensor is a part of, where matrices are stored in parts.
    pub fn part_of(&self, name: &str) -> Option<String> {
        let (stem, part) = name.rsplit_once('.')?;
        (self.scheme != Scheme::Plain && PARTS.contains(&part)).then(|| format!("{stem}.weight"))
    }

    /// Returns whether there is a tensor and all of its values are zero, so that leaving it out changes nothing.
    pub fn is_zero(&self, name: &str) -> bool {
        let place = self.tensors.get(name);
        place.is_some_and(|place| self.bytes(place).iter().all(|byte| *byte == 0))
    }

    fn bytes(&self, place: &StoredTensor) -> &[u8] {
        &self.maps[place.file][place.bytes.clone()]
    }

    fn source(&self, name: &str, shape: &[usize]) -> Result<Source<'_>, WeightsError> {
        let stem = name.strip_suffix(".weight").unwrap_or(name);
        let packed = format!("{stem}.qweight");
        if !self.tensors.contains_key(name) && self.tensors.contains_key(&packed) && shape.len() == 2 {
            return self.packed(stem, shape);
        }
        let place = self.place(name, shape)?;
        match place.stored {
            Stored::Blocks(..) | Stored::Safetensors(Dtype::F32 | Dtype::BF16 | Dtype::F16) => {
                Ok(Source::Stored(place))
            }
            Stored::Safetensors(Dtype::F8_E4M3 | Dtype::I8) if shape.len() == 2 => self.scaled(stem, place),
            Stored::Safetensors(_) => Err(WeightsError::Type {
                name: name.to_owned(),
                found: place.stored.name(),
            }),
        }
    }

    /// Finds the scales of a matrix of 8-bit numbers: one, or one for each output, or for each block.
    fn scaled<'a>(&'a self, stem: &str, values: &'a StoredTensor) -> Result<Source<'a>, WeightsError> {
        let inverse = format!("{stem}.weight_scale_inv");
        let name = match self.tensors.contains_key(&inverse) {
            true => inverse,
            false => format!("{stem}.weight_scale"),
        };
        let [outputs, inputs] = [values.shape[0], values.shape[1]];
        let found = self.find(&name)?;
        let block = match (&self.scheme, found.shape.as_slice()) {
            (_, [] | [1] | [1, 1]) => [outputs, inputs],
            (_, [count] | [count, 1]) if *count == outputs => [1, inputs],
            (Scheme::Scaled { block: Some(block) }, _) => {
                self.place(&name, &[outputs.div_ceil(block[0]), inputs.div_ceil(block[1])])?;
                *block
            }
            _ => {
                return Err(WeightsError::Shape {
                    name,
                    found: found.shape.clone(),
                    wanted: vec![outputs, 1],
                });
            }
        };
        let scales = self.floats_at(&name)?;
        Ok(Source::Scaled { values, scales, block })
    }

    /// Finds the parts of a matrix of packed numbers.
    fn packed(&self, stem: &str, shape: &[usize]) -> Result<Source<'_>, WeightsError> {
        let [outputs, inputs] = [shape[0], shape[1]];
        let word = match self.scheme {
            Scheme::ActivationAware { .. } => 8,
            Scheme::ErrorCompensating { bits, .. } => 32 / bits as usize,
            _ => {
                return Err(WeightsError::Type {
                    name: format!("{stem}.qweight"),
                    found: "packed, and `quantization_config` does not tell how".into(),
                });
            }
        };
        let transposed = matches!(self.scheme, Scheme::ErrorCompensating { .. });
        if !outputs.is_multiple_of(word) || (transposed && !inputs.is_multiple_of(word)) {
            return Err(WeightsError::Shape {
                name: format!("{stem}.qweight"),
                found: shape.to_vec(),
                wanted: vec![outputs.next_multiple_of(word), inputs.next_multiple_of(word)],
            });
        }
        let groups = inputs.div_ceil(self.scheme.shared(inputs));
        let words = if transposed {
            [inputs / word, outputs]
        } else {
            [inputs, outputs / word]
        };
        let scales = format!("{stem}.scales");
        self.place(&scales, &[groups, outputs])?;
        let order = format!("{stem}.g_idx");
        Ok(Source::Packed {
            words: self.words_at(&format!("{stem}.qweight"), &words)?,
            zeros: self.words_at(&format!("{stem}.qzeros"), &[groups, outputs / word])?,
            scales: self.floats_at(&scales)?,
            groups: match self.tensors.contains_key(&order) {
                true => Some(self.words_at(&order, &[inputs])?),
                false => None,
            },
        })
    }

    /// Returns the inputs of a matrix of packed words.
    fn inputs_of_words(&self, words: &StoredTensor) -> usize {
        let rows = words.shape.first().copied().unwrap_or(0);
        match self.scheme {
            Scheme::ErrorCompensating { bits, .. } => rows * (32 / bits as usize),
            _ => rows,
        }
    }

    /// Returns whether an index of groups has the inputs of each group side by side, group by group.
    fn is_in_order(&self, order: &StoredTensor, shared: usize) -> bool {
        *order.in_order.get_or_init(|| {
            let group_of: Cow<'_, [u32]> = aligned(self.bytes(order));
            let mut places = group_of.iter().enumerate();
            places.all(|(at, group)| at / shared == *group as usize)
        })
    }

    fn find(&self, name: &str) -> Result<&StoredTensor, WeightsError> {
        self.tensors.get(name).ok_or_else(|| WeightsError::Missing {
            name: name.to_owned(),
            folder: self.folder.clone(),
        })
    }

    fn place(&self, name: &str, shape: &[usize]) -> Result<&StoredTensor, WeightsError> {
        let place = self.find(name)?;
        if place.shape == shape {
            return Ok(place);
        }
        Err(WeightsError::Shape {
            name: name.to_owned(),
            found: place.shape.clone(),
            wanted: shape.to_vec(),
        })
    }

    fn words_at(&self, name: &str, shape: &[usize]) -> Result<&StoredTensor, WeightsError> {
        let place = self.place(name, shape)?;
        match place.stored {
            Stored::Safetensors(Dtype::I32 | Dtype::U32) => Ok(place),
            stored => Err(WeightsError::Part {
                name: name.to_owned(),
                found: stored.name(),
                wanted: "I32",
            }),
        }
    }

    fn floats_at(&self, name: &str) -> Result<&StoredTensor, WeightsError> {
        let place = self.find(name)?;
        match place.stored {
            Stored::Safetensors(Dtype::F32 | Dtype::F16 | Dtype::BF16) => Ok(place),
            stored => Err(WeightsError::Part {
                name: name.to_owned(),
                found: stored.name(),
                wanted: "F32, F16 or BF16",
            }),
        }
    }

    /// Returns a tensor of the given shape, widened to `f32` unless it is stored as F32, BF16 or F16.
    ///
    /// # Errors
    /// When it or a part of it is missing, or of another shape, or of a type that cannot be read.
    pub fn tensor(&self, name: &str, shape: &[usize]) -> Result<Tensor<'_>, WeightsError> {
        match self.source(name, shape)? {
            Source::Stored(place) => Ok(self.stored(place)),
            Source::Scaled { values, scales, block } => {
                let number: fn(u8) -> f32 = match values.stored {
                    Stored::Safetensors(Dtype::I8) => |byte| f32::from(byte as i8),
                    _ => e4m3,
                };
                let inputs = shape[1];
                let across = inputs.div_ceil(block[1]);
                let scales = self.stored(scales).to_f32();
                let scale = |at: usize| scales[at / inputs / block[0] * across + at % inputs / block[1]];
                let values = self.bytes(values).iter().enumerate();
                Ok(owned(values.map(|(at, byte)| number(*byte) * scale(at)).collect()))
            }
            Source::Packed { .. } => match self.matrix(name, shape)? {
                Matrix::Floats(tensor) => Ok(tensor),
                other => Ok(owned(other.to_f32())),
            },
        }
    }

    /// Returns a matrix `[outputs, inputs]` as it is stored, as floats or as small numbers with scales: nothing is lost. What is
    /// no matrix comes as floats.
    ///
    /// # Errors
    /// As for [`Checkpoint::tensor`].
    pub fn matrix(&self, name: &str, shape: &[usize]) -> Result<Matrix<'_>, WeightsError> {
        if shape.len() != 2 {
            return Ok(Matrix::Floats(self.tensor(name, shape)?));
        }
        match self.source(name, shape)? {
            Source::Stored(place) => Ok(match place.stored {
                Stored::Blocks(block, rows) => match block.groups(self.bytes(place), shape[1]) {
                    Some(groups) => Matrix::Groups(rows.in_order_groups(groups, shape[0])),
                    None => Matrix::Floats(self.stored(place)),
                },
                Stored::Safetensors(_) => Matrix::Floats(self.stored(place)),
            }),
            Source::Scaled { values, scales, block } if matches!(values.stored, Stored::Safetensors(Dtype::I8)) => {
                let inputs = shape[1];
                let Some(group) = group_in_memory(block[1], inputs) else {
                    return Ok(Matrix::Floats(self.tensor(name, shape)?));
                };
                let across = inputs.div_ceil(block[1]);
                let scales = self.stored(scales).to_f32();
                let groups = inputs.div_ceil(group);
                let scale = |at: usize| scales[at / groups / block[0] * across + at % groups * group / block[1]];
                Ok(Matrix::Groups(GroupWeights {
                    inputs,
                    bits: Bits::Eight,
                    group,
                    numbers: self.bytes(values).iter().map(|byte| byte ^ 0x80).collect(),
                    scales: (0..shape[0] * groups).map(scale).collect(),
                    minima: None,
                }))
            }
            Source::Scaled { values, scales, block } => {
                let numbers = Cow::Borrowed(self.bytes(values));
                let scales = self.stored(scales).to_f32();
                let weights = Float8Weights::of_blocks(numbers, shape[1], &scales, block);
                weights.map(Matrix::F8).ok_or_else(|| WeightsError::Part {
                    name: name.to_owned(),
                    found: "partly NaN, or has a scale beyond 1e30".into(),
                    wanted: "finite numbers with finite scales",
                })
            }
            Source::Packed {
                words,
                zeros,
                scales,
                groups,
            } => {
                let (outputs, inputs) = (shape[0], shape[1]);
                let scales = self.stored(scales).to_f32();
                let group_of = self.group_of(name, groups, inputs, scales.len() / outputs)?;
                let shared = self.scheme.shared(inputs);
                let in_order = groups.is_none_or(|order| self.is_in_order(order, shared));
                let group = group_in_memory(shared, inputs).filter(|_| in_order);
                let packed = Packed {
                    outputs,
                    inputs,
                    words: &aligned(self.bytes(words)),
                    zeros: &aligned(self.bytes(zeros)),
                    scales: &scales,
                    group_of: &group_of,
                };
                Ok(match self.scheme {
                    Scheme::ErrorCompensating { bits, zero_offset, .. } => {
                        let numbers = packed.error_compensating(bits, zero_offset);
                        let bits = if bits == 8 { Bits::Eight } else { Bits::Four };
                        match group {
                            Some(group) => Matrix::Groups(packed.groups(bits, shared, group, numbers)),
                            None => Matrix::Floats(owned(packed.values(numbers))),
                        }
                    }
                    _ => {
                        let numbers = packed.activation_aware();
                        match group {
                            Some(group) => Matrix::Groups(packed.groups(Bits::Four, shared, group, numbers)),
                            None => Matrix::Floats(owned(packed.values(numbers))),
                        }
                    }
                })
            }
        }
    }

    /// Returns the group of each input: as stored, or one after the other.
    fn group_of(
        &self,
        name: &str,
        stored: Option<&StoredTensor>,
        inputs: usize,
        groups: usize,
    ) -> Result<Vec<usize>, WeightsError> {
        let Some(place) = stored else {
            let shared = self.scheme.shared(inputs);
            return Ok((0..inputs).map(|input| input / shared).collect());
        };
        let listed: Cow<'_, [u32]> = aligned(self.bytes(place));
        match listed.iter().find(|group| **group as usize >= groups) {
            None => Ok(listed.iter().map(|group| *group as usize).collect()),
            Some(group) => Err(WeightsError::Part {
                name: name.replace(".weight", ".g_idx"),
                found: format!("an index with group {group}"),
                wanted: "one with groups that there are scales for",
            }),
        }
    }

    fn stored(&self, place: &StoredTensor) -> Tensor<'_> {
        let bytes = self.bytes(place);
        match place.stored {
            Stored::Blocks(block, rows) => {
                let count = place.shape.first().copied().unwrap_or(1);
                match block {
                    BlockType::F32 => Tensor::F32(rows.in_order_cow(aligned(bytes), count)),
                    BlockType::Bf16 => Tensor::Bf16(rows.in_order_cow(aligned(bytes), count)),
                    BlockType::F16 => Tensor::F16(rows.in_order_cow(aligned(bytes), count)),
                    _ => owned(rows.in_order(block.values(bytes), count)),
                }
            }
            Stored::Safetensors(Dtype::F32) => Tensor::F32(aligned(bytes)),
            Stored::Safetensors(Dtype::BF16) => Tensor::Bf16(aligned(bytes)),
            Stored::Safetensors(_) => Tensor::F16(aligned(bytes)),
        }
    }

    fn add_file(&mut self, path: &Path) -> Result<(), WeightsError> {
        let map = map(path)?;
        let format = |reason: String| WeightsError::Format {
            path: path.to_owned(),
            reason,
        };
        let tensors = SafeTensors::deserialize(&map).map_err(|e| format(e.to_string()))?;
        for (name, view) in tensors.tensors() {
            let start = view.data().as_ptr() as usize - map.as_ptr() as usize;
            let place = StoredTensor {
                file: self.maps.len(),
                stored: Stored::Safetensors(view.dtype()),
                shape: view.shape().to_vec(),
                bytes: start..start + view.data().len(),
                in_order: OnceLock::new(),
            };
            if self.tensors.insert(name.clone(), place).is_some() {
                return Err(format(format!("tensor `{name}` is also in another shard")));
            }
        }
        self.maps.push(map);
        Ok(())
    }
}

fn owned(values: Vec<f32>) -> Tensor<'static> {
    Tensor::F32(Cow::Owned(values))
}

/// Returns how a folder's matrices are stored, as its config says.
fn scheme_of(folder: &Path) -> Result<Scheme, WeightsError> {
    let path = folder.join("config.json");
    if !path.is_file() {
        return Ok(Scheme::Plain);
    }
    let config: Map<String, Value> = read_json(&path)?;
    Scheme::of_config(&path, &config)
}

/// Most bytes of a JSON file beside the weights.
const MOST_JSON: u64 = 64 << 20;

/// Returns the bytes as values, copied only when they do not lie on a boundary of the type.
fn aligned<T: bytemuck::Pod>(bytes: &[u8]) -> Cow<'_, [T]> {
    match bytemuck::try_cast_slice(bytes) {
        Ok(values) => Cow::Borrowed(values),
        Err(_) => Cow::Owned(
            bytes
                .chunks_exact(size_of::<T>())
                .map(bytemuck::pod_read_unaligned)
                .collect(),
        ),
    }
}

/// Reads a JSON file.
///
/// # Errors
/// When it cannot be read or is not what was expected.
pub(crate) fn read_json<T: for<'de> Deserialize<'de>>(path: &Path) -> Result<T, WeightsError> {
    let text = vastrelay_files::read(path, MOST_JSON).map_err(|source| WeightsError::Read {
        path: path.to_owned(),
        source,
    })?;
    serde_json::from_slice(&text).map_err(|source| WeightsError::Json {
        path: path.to_owned(),
        source,
    })
}

/// Says what a folder without safetensors holds instead, when that is known.
fn hint(folder: &Path) -> String {
    let endings: BTreeSet<String> = std::fs::read_dir(folder)
        .into_iter()
        .flatten()
        .flatten()
        .filter_map(|entry| entry.path().extension().map(|e| e.to_string_lossy().to_lowercase()))
        .collect();
    if !folder.is_dir() {
        "; there is no such folder".into()
    } else if ["bin", "pt", "pth", "ckpt"]
        .iter()
        .any(|ending| endings.contains(*ending))
    {
        "; there are pickled weights, which could run code and are never read: convert them to safetensors".into()
    } else if endings.contains("gguf") {
        "; there is a GGUF file: name the file itself".into()
    } else {
        String::new()
    }
}
