//! Builds: models converted once, ahead of time, into the layout that kernels read.
//!
//! A build is a folder with the model's `config.json` and texts, `build.json`, which says what was made from what, and
//! `build.safetensors`, whose tensors are mapped and read as they lie.

use crate::checkpoint::read_json;
use crate::error::WeightsError;
use crate::map::{FileBytes, map, map_file, open, unreadable};
use crate::precision::Precisions;
use safetensors::SafeTensors;
pub use safetensors::tensor::Dtype;
use safetensors::tensor::{Metadata, TensorInfo, TensorView, serialize_to_file};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::collections::{BTreeMap, HashMap};
use std::marker::PhantomData;
use std::ops::Range;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use vastrelay_files::Stamp;
use vastrelay_kernels::cells::Cells;

/// The layout that this version writes and reads.
pub const VERSION: u32 = 3;
/// Tensors begin at multiples of so many bytes, so that a vector lies in one line of the cache.
const LINE: usize = 64;
const FACTS: &str = "build.json";
const TENSORS: &str = "build.safetensors";

/// What a build is.
#[derive(Clone, Debug, Deserialize, PartialEq, Serialize)]
pub struct Facts {
    /// The version of the layout.
    pub version: u32,
    /// The name of the folder or file that it was made from.
    pub source: String,
    /// The precision of its weights, and of keys and values unless the caller asks for another.
    pub precisions: Precisions,
    /// The text that rounding was calibrated on, if it was.
    pub calibrated_on: Option<String>,
    /// How each matrix lies in the file.
    pub matrices: BTreeMap<String, Vec<MatrixFacts>>,
    /// The BLAKE3 hash of the tensors' file.
    pub checksum: String,
}

/// How a matrix lies in the file.
#[derive(Clone, Copy, Debug, Deserialize, PartialEq, Eq, Serialize)]
pub struct MatrixFacts {
    /// Outputs.
    pub outputs: usize,
    /// Inputs.
    pub inputs: usize,
    /// Bits of a number, for numbers in groups.
    pub bits: Option<u32>,
    /// Inputs that share a scale, for numbers in groups and for 8-bit floats, which have no `bits`.
    pub group: Option<usize>,
}

/// A build, mapped into memory.
pub struct Build {
    folder: PathBuf,
    /// What it is.
    pub facts: Facts,
    checked: Option<Checked>,
    map: FileBytes,
    tensors: BTreeMap<String, (Dtype, Range<usize>)>,
}

/// That the tensors of a build are what was written.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Checked {
    /// How their file stood before it was read for that.
    stamp: Stamp,
    /// Its BLAKE3 hash.
    checksum: String,
}

impl Checked {
    /// Returns that a file of a stamp, taken before it was read, has a BLAKE3 hash.
    pub fn of(stamp: Stamp, checksum: String) -> Checked {
        Checked { stamp, checksum }
    }
}

/// A tensor to be written.
pub enum Written<'a> {
    /// 32-bit floats.
    F32(&'a [f32]),
    /// Brain floats.
    Bf16(&'a [half::bf16]),
    /// Half-precision floats.
    F16(&'a [half::f16]),
    /// 8-bit floats.
    F8(&'a [u8]),
    /// Bytes.
    U8(&'a [u8]),
}

impl Build {
    /// Returns whether a folder holds a build.
    pub fn is_one(folder: &Path) -> bool {
        folder.join(FACTS).is_file()
    }

    /// Returns the file with the tensors of the build in a folder.
    pub fn tensors_of(folder: &Path) -> PathBuf {
        folder.join(TENSORS)
    }

    /// Maps a build and checks that it is whole.
    ///
    /// # Errors
    /// When a file is missing or malformed, of another version, or not what was written.
    pub fn open(folder: &Path) -> Result<Build, WeightsError> {
        Build::open_checked(folder, None)
    }

    /// As [`Build::open`], but a file is not read again that is as it was when somebody checked it before.
    ///
    /// # Errors
    /// As there.
    pub fn open_checked(folder: &Path, before: Option<&Checked>) -> Result<Build, WeightsError> {
        let facts: Value = read_json(&folder.join(FACTS))?;
        let wrong = |field: &str, found: String, wanted: String| WeightsError::Field {
            file: folder.join(FACTS),
            field: field.into(),
            found,
            wanted,
        };
        // Other versions have other fields.
        if facts["version"] != VERSION {
            let wanted = format!("this program reads version {VERSION}; `vastrelay model build` makes the build anew");
            return Err(wrong("version", facts["version"].to_string(), wanted));
        }
        let facts = Facts::deserialize(facts).map_err(|source| WeightsError::Json {
            path: folder.join(FACTS),
            source,
        })?;
        let path = folder.join(TENSORS);
        let file = open(&path)?;
        let stamp = Stamp::of(&file).map_err(|source| unreadable(&path, source))?;
        let map = map_file(&file, &path)?;
        let checked = stamp.map(|stamp| Checked {
            stamp,
            checksum: facts.checksum.clone(),
        });
        if checked.is_none() || checked.as_ref() != before {
            let checksum = blake3::hash(&map).to_hex().to_string();
            if checksum != facts.checksum {
                let wanted = format!("{TENSORS} has {checksum}: it was changed or cut short; build it anew");
                return Err(wrong("checksum", facts.checksum, wanted));
            }
        }
        let format = |reason: String| WeightsError::Format {
            path: path.clone(),
            reason,
        };
        let read = SafeTensors::deserialize(&map).map_err(|error| format(error.to_string()))?;
        let mut tensors = BTreeMap::new();
        for (name, view) in read.tensors() {
            let start = view.data().as_ptr() as usize - map.as_ptr() as usize;
            tensors.insert(name, (view.dtype(), start..start + view.data().len()));
        }
        Ok(Build {
            folder: folder.to_owned(),
            facts,
            checked,
            map,
            tensors,
        })
    }

    /// Writes a build's tensors and facts into a folder; the checksum is filled in.
    ///
    /// # Errors
    /// When a file cannot be written.
    pub fn write(folder: &Path, tensors: &BTreeMap<String, Written<'_>>, mut facts: Facts) -> Result<(), WeightsError> {
        let path = folder.join(TENSORS);
        let views = tensors
            .iter()
            .map(|(name, tensor)| {
                let (dtype, len, bytes) = match tensor {
                    Written::F32(values) => (Dtype::F32, values.len(), bytemuck::cast_slice(values)),
                    Written::Bf16(values) => (Dtype::BF16, values.len(), bytemuck::cast_slice(values)),
                    Written::F16(values) => (Dtype::F16, values.len(), bytemuck::cast_slice(values)),
                    Written::F8(values) => (Dtype::F8_E4M3, values.len(), *values),
                    Written::U8(values) => (Dtype::U8, values.len(), *values),
                };
                Ok((name, TensorView::new(dtype, vec![len], bytes)?))
            })
            .collect::<Result<Vec<_>, safetensors::SafeTensorError>>();
        let failed = |error: safetensors::SafeTensorError| match error {
            safetensors::SafeTensorError::IoError(source) => WeightsError::Write {
                path: path.clone(),
                source,
            },
            other => WeightsError::Format {
                path: path.clone(),
                reason: other.to_string(),
            },
        };
        let views = views.map_err(failed)?;
        let padding = HashMap::from([("padding".to_owned(), " ".repeat(padding(&views).map_err(failed)?))]);
        serialize_to_file(views, Some(padding), &path).map_err(failed)?;
        facts.checksum = blake3::hash(&map(&path)?).to_hex().to_string();
        let facts_path = folder.join(FACTS);
        let text = serde_json::to_string_pretty(&facts).map_err(|source| WeightsError::Json {
            path: facts_path.clone(),
            source,
        })?;
        std::fs::write(&facts_path, text).map_err(|source| WeightsError::Write {
            path: facts_path,
            source,
        })
    }

    /// Returns that its tensors are what was written, for whoever opens it next; nothing where they have just been written.
    pub fn checked(&self) -> Option<&Checked> {
        self.checked.as_ref()
    }

    /// Returns the bytes of all tensors.
    pub fn bytes(&self) -> usize {
        self.tensors.values().map(|(_, bytes)| bytes.len()).sum()
    }

    /// Returns how many tensors and bytes are stored in which type.
    pub fn types(&self) -> BTreeMap<String, (usize, usize)> {
        let mut types = BTreeMap::new();
        for (dtype, bytes) in self.tensors.values() {
            let (count, sum): &mut (usize, usize) = types.entry(format!("{dtype:?}")).or_default();
            *count += 1;
            *sum += bytes.len();
        }
        types
    }

    /// Returns how a matrix lies in the file.
    ///
    /// # Errors
    /// When there is no such matrix.
    pub fn matrix(&self, name: &str) -> Result<&[MatrixFacts], WeightsError> {
        let found = self.facts.matrices.get(name);
        found.map(Vec::as_slice).ok_or_else(|| self.missing(name))
    }

    /// Returns whether there is a tensor.
    pub fn has(&self, name: &str) -> bool {
        self.tensors.contains_key(name)
    }

    /// Returns the 32-bit floats of a tensor, as they lie in the file.
    ///
    /// # Errors
    /// When there is none, or of another type or length.
    pub fn f32(&self, name: &str, len: usize) -> Result<Cells<f32>, WeightsError> {
        self.cells(name, Dtype::F32, len)
    }

    /// Returns the brain floats of a tensor.
    ///
    /// # Errors
    /// As for [`Build::f32`].
    pub fn bf16(&self, name: &str, len: usize) -> Result<Cells<half::bf16>, WeightsError> {
        self.cells(name, Dtype::BF16, len)
    }

    /// Returns the half-precision floats of a tensor.
    ///
    /// # Errors
    /// As for [`Build::f32`].
    pub fn f16(&self, name: &str, len: usize) -> Result<Cells<half::f16>, WeightsError> {
        self.cells(name, Dtype::F16, len)
    }

    /// Returns the bits of the 8-bit floats of a tensor.
    ///
    /// # Errors
    /// As for [`Build::f32`].
    pub fn f8(&self, name: &str, len: usize) -> Result<Cells<u8>, WeightsError> {
        self.cells(name, Dtype::F8_E4M3, len)
    }

    /// Returns the type that the values of a tensor have in the file.
    ///
    /// # Errors
    /// When there is none.
    pub fn dtype(&self, name: &str) -> Result<Dtype, WeightsError> {
        let found = self.tensors.get(name);
        found.map(|(dtype, _)| *dtype).ok_or_else(|| self.missing(name))
    }

    /// Returns the bytes of a tensor.
    ///
    /// # Errors
    /// As for [`Build::f32`].
    pub fn u8(&self, name: &str, len: usize) -> Result<Cells<u8>, WeightsError> {
        self.cells(name, Dtype::U8, len)
    }

    fn cells<T>(&self, name: &str, wanted: Dtype, len: usize) -> Result<Cells<T>, WeightsError>
    where
        T: bytemuck::Pod + Send + Sync,
    {
        let (dtype, bytes) = self.tensors.get(name).ok_or_else(|| self.missing(name))?;
        let lent: Lent<T> = Lent {
            map: self.map.clone(),
            bytes: bytes.clone(),
            kind: PhantomData,
        };
        let fits = *dtype == wanted && bytemuck::try_cast_slice::<u8, T>(&self.map[bytes.clone()]).is_ok();
        if !fits || lent.as_ref().len() != len {
            return Err(WeightsError::Shape {
                name: name.to_owned(),
                found: vec![bytes.len()],
                wanted: vec![len * size_of::<T>()],
            });
        }
        Ok(Cells::Lent(Arc::new(lent)))
    }

    fn missing(&self, name: &str) -> WeightsError {
        WeightsError::Missing {
            name: name.to_owned(),
            folder: self.folder.clone(),
        }
    }
}

/// Returns by how much a header has to be longer for the tensors after it to begin at a line. The file has them in the order of
/// their types, the widest first, then of their names.
fn padding(views: &[(&String, TensorView<'_>)]) -> Result<usize, safetensors::SafeTensorError> {
    let mut views: Vec<_> = views.iter().collect();
    views.sort_by(|(name, view), (other, than)| than.dtype().cmp(&view.dtype()).then(name.cmp(other)));
    let mut end = 0;
    let tensors = views.into_iter().map(|(name, view)| {
        let begin = end;
        end += view.data().len();
        let info = TensorInfo {
            dtype: view.dtype(),
            shape: view.shape().to_vec(),
            data_offsets: (begin, end),
        };
        ((*name).clone(), info)
    });
    let unpadded = HashMap::from([("padding".to_owned(), String::new())]);
    let header = serde_json::to_vec(&Metadata::new(Some(unpadded), tensors.collect())?)?;
    let begin = size_of::<u64>() + header.len();
    Ok(begin.next_multiple_of(LINE) - begin)
}

/// A part of a mapped file, which stays mapped as long as it is read.
struct Lent<T> {
    map: FileBytes,
    bytes: Range<usize>,
    kind: PhantomData<T>,
}

impl<T: bytemuck::Pod> AsRef<[T]> for Lent<T> {
    fn as_ref(&self) -> &[T] {
        bytemuck::cast_slice(&self.map[self.bytes.clone()])
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_full_disk_is_named_as_the_reason() {
        let folder = tempfile::tempdir().unwrap();
        std::os::unix::fs::symlink("/dev/full", folder.path().join(TENSORS)).unwrap();
        let facts = Facts {
            version: VERSION,
            source: "pierdesk-1".into(),
            precisions: Precisions::default(),
            calibrated_on: None,
            matrices: BTreeMap::new(),
            checksum: String::new(),
        };
        let values = vec![1.0; 100_000];
        let tensors = BTreeMap::from([("m".to_owned(), Written::F32(&values))]);
        let error = Build::write(folder.path(), &tensors, facts).unwrap_err().to_string();
        assert!(
            error.starts_with("cannot write ") && error.contains("the disk is full"),
            "{error}"
        );
    }
}
