//! The tensors of a folder or a file, read through memory maps.

use crate::blocks::BlockType;
use crate::error::WeightsError;
use crate::gguf::{Gguf, Rows};
use half::{bf16, f16};
use memmap2::Mmap;
use safetensors::{Dtype, SafeTensors};
use serde::Deserialize;
use std::borrow::Cow;
use std::collections::{BTreeMap, BTreeSet};
use std::fs::File;
use std::ops::Range;
use std::path::{Path, PathBuf};

/// A folder of safetensors files, one or sharded, or a GGUF file, mapped into memory.
pub struct Checkpoint {
    folder: PathBuf,
    maps: Vec<Mmap>,
    tensors: BTreeMap<String, Place>,
}

struct Place {
    file: usize,
    stored: Stored,
    shape: Vec<usize>,
    bytes: Range<usize>,
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

/// The values of a tensor, borrowed from the map where it stores them as they are.
pub enum Tensor<'a> {
    /// 32-bit floats.
    F32(Cow<'a, [f32]>),
    /// Brain floats.
    Bf16(Cow<'a, [bf16]>),
}

#[derive(Deserialize)]
struct Index {
    weight_map: BTreeMap<String, String>,
}

impl Checkpoint {
    /// Opens a GGUF file, a folder with `model.safetensors`, or one with `model.safetensors.index.json` and the shards it names.
    ///
    /// # Errors
    /// When a file is missing or malformed, or a shard lacks a tensor that the index places in it.
    pub fn open(folder: &Path) -> Result<Checkpoint, WeightsError> {
        if Gguf::is_one(folder) {
            return Checkpoint::of_gguf(folder);
        }
        let mut checkpoint = Checkpoint {
            folder: folder.to_owned(),
            maps: Vec::new(),
            tensors: BTreeMap::new(),
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

    /// Returns the bytes of all tensors together once they are loaded, in the precisions that execute.
    pub fn loaded_bytes(&self) -> usize {
        let loaded = |place: &Place| {
            let bytes = match place.stored {
                Stored::Safetensors(Dtype::BF16) => 2,
                _ => 4,
            };
            place.shape.iter().product::<usize>() * bytes
        };
        self.tensors.values().map(loaded).sum()
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

    fn of_gguf(path: &Path) -> Result<Checkpoint, WeightsError> {
        let map = map(path)?;
        let gguf = Gguf::parse(path, &map)?;
        let mut tensors = BTreeMap::new();
        for tensor in &gguf.tensors {
            let (name, rows) = gguf.renamed(&tensor.name);
            let place = Place {
                file: 0,
                stored: Stored::Blocks(tensor.stored, rows),
                shape: tensor.shape.clone(),
                bytes: tensor.bytes.clone(),
            };
            tensors.insert(name, place);
        }
        Ok(Checkpoint {
            folder: path.to_owned(),
            maps: vec![map],
            tensors,
        })
    }

    /// Makes sure that there is a tensor of the given shape and of a type that can be read.
    ///
    /// # Errors
    /// What is wrong.
    pub fn fits(&self, name: &str, shape: &[usize]) -> Result<(), WeightsError> {
        self.place(name, shape).map(drop)
    }

    fn place(&self, name: &str, shape: &[usize]) -> Result<&Place, WeightsError> {
        let place = self.tensors.get(name).ok_or_else(|| WeightsError::Missing {
            name: name.to_owned(),
            folder: self.folder.clone(),
        })?;
        if place.shape != shape {
            return Err(WeightsError::Shape {
                name: name.to_owned(),
                found: place.shape.clone(),
                wanted: shape.to_vec(),
            });
        }
        match place.stored {
            Stored::Blocks(..) | Stored::Safetensors(Dtype::F32 | Dtype::BF16 | Dtype::F16) => Ok(place),
            Stored::Safetensors(_) => Err(WeightsError::Type {
                name: name.to_owned(),
                found: place.stored.name(),
            }),
        }
    }

    /// Returns a tensor of the given shape, widened to `f32` when it is stored as F16 or in blocks.
    ///
    /// # Errors
    /// When it is missing, or of another shape or of a type that cannot be read.
    pub fn tensor(&self, name: &str, shape: &[usize]) -> Result<Tensor<'_>, WeightsError> {
        let place = self.place(name, shape)?;
        let bytes = &self.maps[place.file][place.bytes.clone()];
        match place.stored {
            Stored::Blocks(block, rows) => {
                let count = shape.first().copied().unwrap_or(1);
                Ok(Tensor::F32(Cow::Owned(rows.in_order(block.values(bytes), count))))
            }
            Stored::Safetensors(Dtype::F32) => Ok(Tensor::F32(aligned(bytes))),
            Stored::Safetensors(Dtype::BF16) => Ok(Tensor::Bf16(aligned(bytes))),
            Stored::Safetensors(_) => {
                let halves: Cow<'_, [f16]> = aligned(bytes);
                Ok(Tensor::F32(Cow::Owned(
                    halves.iter().map(|half| half.to_f32()).collect(),
                )))
            }
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
            let place = Place {
                file: self.maps.len(),
                stored: Stored::Safetensors(view.dtype()),
                shape: view.shape().to_vec(),
                bytes: start..start + view.data().len(),
            };
            if self.tensors.insert(name.clone(), place).is_some() {
                return Err(format(format!("tensor `{name}` is also in another shard")));
            }
        }
        self.maps.push(map);
        Ok(())
    }
}

impl Tensor<'_> {
    /// Returns the values as `f32`.
    pub fn to_f32(&self) -> Vec<f32> {
        match self {
            Tensor::F32(values) => values.to_vec(),
            Tensor::Bf16(values) => values.iter().map(|value| value.to_f32()).collect(),
        }
    }
}

/// Maps a file into memory.
///
/// # Errors
/// When it cannot be read.
pub(crate) fn map(path: &Path) -> Result<Mmap, WeightsError> {
    let read = |source| WeightsError::Read {
        path: path.to_owned(),
        source,
    };
    let file = File::open(path).map_err(read)?;
    // SAFETY: the map is read only. A checkpoint is not to be changed while it is served; if somebody cuts the file short all
    // the same, the process ends by a bus error, which no reader of a mapped file can prevent.
    unsafe { Mmap::map(&file) }.map_err(read)
}

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
    let text = std::fs::read(path).map_err(|source| WeightsError::Read {
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
