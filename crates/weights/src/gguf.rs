//! GGUF files: one file that holds tensors, the model's settings, its tokenizer and its template.
//!
//! Versions 2 and 3, little-endian. Nothing that a header claims is believed before it is checked against the file's length,
//! so a hostile one costs no memory.

mod model;
mod tokenizer;

pub(crate) use model::Rows;
pub use model::family_of;

use crate::blocks::BlockType;
use crate::error::WeightsError;
use crate::map::{FileBytes, map};
use std::collections::BTreeMap;
use std::ops::Range;
use std::path::{Path, PathBuf};

/// Deepest nesting of lists in the settings.
const DEEPEST: usize = 4;
/// Most values in all lists of the settings together: a value takes more bytes in memory than in the file.
const MOST_LISTED: usize = 8 << 20;
/// Most dimensions of a tensor.
const MOST_DIMENSIONS: u32 = 4;
/// Where tensors begin, when the settings do not say: at a multiple of so many bytes.
const ALIGNMENT: usize = 32;

/// The header of a file.
#[derive(Debug)]
pub struct Gguf {
    pub(crate) path: PathBuf,
    settings: BTreeMap<String, Setting>,
    pub(crate) tensors: Vec<TensorPlace>,
    pub(crate) bytes: FileBytes,
}

/// A tensor in a file.
#[derive(Debug, PartialEq, Eq)]
pub(crate) struct TensorPlace {
    pub name: String,
    /// Rows first, as everywhere else; files have it the other way round.
    pub shape: Vec<usize>,
    pub stored: BlockType,
    pub bytes: Range<usize>,
}

/// A value of the settings.
#[derive(Clone, Debug, PartialEq)]
enum Setting {
    Whole(i128),
    Number(f64),
    Flag(bool),
    Text(String),
    List(Vec<Setting>),
}

impl Gguf {
    /// Returns whether a path is one file of this kind, by its name.
    pub fn is_one(path: &Path) -> bool {
        path.extension()
            .is_some_and(|ending| ending.eq_ignore_ascii_case("gguf"))
            && path.is_file()
    }

    /// Reads the header of a file.
    ///
    /// # Errors
    /// When it cannot be read, or is not whole.
    pub fn open(path: &Path) -> Result<Gguf, WeightsError> {
        Gguf::parse(path, map(path)?)
    }

    /// Reads the header out of a file's bytes.
    ///
    /// # Errors
    /// What is wrong, and at which byte.
    pub fn parse(path: &Path, bytes: impl Into<FileBytes>) -> Result<Gguf, WeightsError> {
        let bytes = bytes.into();
        let mut reader = Reader {
            bytes: &bytes,
            at: 0,
            listed: 0,
        };
        let path = path.to_owned();
        match parse(&mut reader) {
            Ok((settings, tensors)) => Ok(Gguf {
                path,
                settings,
                tensors,
                bytes,
            }),
            Err(reason) => Err(WeightsError::Gguf {
                path,
                at: reader.at,
                reason,
            }),
        }
    }

    fn text(&self, name: &str) -> Option<&str> {
        match self.settings.get(name) {
            Some(Setting::Text(text)) => Some(text),
            _ => None,
        }
    }

    fn whole(&self, name: &str) -> Option<u64> {
        match self.settings.get(name) {
            Some(Setting::Whole(number)) => u64::try_from(*number).ok(),
            _ => None,
        }
    }

    fn number(&self, name: &str) -> Option<f64> {
        match self.settings.get(name) {
            Some(Setting::Number(number)) => Some(*number),
            Some(Setting::Whole(number)) => Some(*number as f64),
            _ => None,
        }
    }

    fn flag(&self, name: &str) -> Option<bool> {
        match self.settings.get(name) {
            Some(Setting::Flag(flag)) => Some(*flag),
            _ => None,
        }
    }

    fn list(&self, name: &str) -> Option<&[Setting]> {
        match self.settings.get(name) {
            Some(Setting::List(list)) => Some(list),
            _ => None,
        }
    }

    /// Returns the error that a setting is not as it has to be.
    fn refused(&self, field: &str, wanted: &str) -> WeightsError {
        let found = match self.settings.get(field) {
            None => "missing".into(),
            Some(Setting::Text(text)) => format!("\"{text}\""),
            Some(Setting::List(list)) => format!("a list of {}", list.len()),
            Some(Setting::Whole(number)) => number.to_string(),
            Some(Setting::Number(number)) => number.to_string(),
            Some(Setting::Flag(flag)) => flag.to_string(),
        };
        WeightsError::Field {
            file: self.path.clone(),
            field: field.to_owned(),
            found,
            wanted: wanted.to_owned(),
        }
    }
}

type Parsed = (BTreeMap<String, Setting>, Vec<TensorPlace>);

fn parse(reader: &mut Reader<'_>) -> Result<Parsed, String> {
    if reader.take(4)? != b"GGUF" {
        return Err("it does not begin with the letters GGUF".into());
    }
    let version = reader.u32()?;
    if version.swap_bytes() < 16 && version > 0xFFFF {
        return Err("it is big-endian; little-endian files can be read".into());
    }
    if !(2..=3).contains(&version) {
        return Err(format!("it is of version {version}; versions 2 and 3 can be read"));
    }
    // A tensor's entry has 24 bytes or more, a setting's 13 or more.
    let tensors = reader.count(24)?;
    let settings = reader.count(13)?;
    let settings = read_settings(reader, settings)?;
    let alignment = match settings.get("general.alignment") {
        None => ALIGNMENT,
        Some(Setting::Whole(number)) if (8..=1 << 20).contains(number) && number % 8 == 0 => *number as usize,
        Some(_) => return Err("`general.alignment` must be a multiple of 8, up to 1 MiB".into()),
    };
    let mut entries = Vec::new();
    for _ in 0..tensors {
        entries.push(read_entry(reader)?);
    }
    let begin = reader.at.next_multiple_of(alignment);
    let mut tensors = Vec::with_capacity(entries.len());
    for (name, shape, stored, offset) in entries {
        tensors.push(located(
            name,
            shape,
            stored,
            offset,
            begin,
            alignment,
            reader.bytes.len(),
        )?);
    }
    check_apart(&tensors)?;
    Ok((settings, tensors))
}

fn read_settings(reader: &mut Reader<'_>, count: usize) -> Result<BTreeMap<String, Setting>, String> {
    let mut settings = BTreeMap::new();
    for _ in 0..count {
        let name = reader.text()?;
        let kind = reader.u32()?;
        let value = reader.value(kind, 0)?;
        if settings.insert(name.clone(), value).is_some() {
            return Err(format!("the setting `{name}` is there twice"));
        }
    }
    Ok(settings)
}

type Entry = (String, Vec<usize>, BlockType, u64);

fn read_entry(reader: &mut Reader<'_>) -> Result<Entry, String> {
    let name = reader.text()?;
    let dimensions = reader.u32()?;
    if !(1..=MOST_DIMENSIONS).contains(&dimensions) {
        return Err(format!(
            "tensor `{name}` has {dimensions} dimensions; 1 to {MOST_DIMENSIONS} can be read"
        ));
    }
    let mut shape = Vec::new();
    for _ in 0..dimensions {
        let size = usize::try_from(reader.u64()?).ok().filter(|size| *size > 0);
        shape.push(size.ok_or_else(|| format!("tensor `{name}` has an impossible dimension"))?);
    }
    shape.reverse();
    let kind = reader.u32()?;
    let stored = BlockType::of(kind).ok_or_else(|| {
        let known: Vec<&str> = BlockType::all().map(BlockType::name).collect();
        format!(
            "tensor `{name}` is stored as type {kind}; {} can be read",
            known.join(", ")
        )
    })?;
    Ok((name, shape, stored, reader.u64()?))
}

fn located(
    name: String,
    shape: Vec<usize>,
    stored: BlockType,
    offset: u64,
    begin: usize,
    alignment: usize,
    end: usize,
) -> Result<TensorPlace, String> {
    let columns = shape.last().copied().unwrap_or(0);
    if !columns.is_multiple_of(stored.weights()) {
        let block = stored.weights();
        return Err(format!(
            "tensor `{name}` has rows of {columns}, which is not a multiple of the block size {block}"
        ));
    }
    if !offset.is_multiple_of(alignment as u64) {
        return Err(format!(
            "tensor `{name}` does not begin at a multiple of {alignment} bytes"
        ));
    }
    let elements = shape
        .iter()
        .try_fold(1usize, |product, size| product.checked_mul(*size));
    let length = elements.and_then(|count| (count / stored.weights()).checked_mul(stored.bytes()));
    let start = usize::try_from(offset)
        .ok()
        .and_then(|offset| begin.checked_add(offset));
    let range = start
        .zip(length)
        .and_then(|(start, length)| Some(start..start.checked_add(length)?));
    let range = range.filter(|range| range.end <= end);
    let bytes = range.ok_or_else(|| format!("tensor `{name}` reaches beyond the file's end, {end} bytes"))?;
    Ok(TensorPlace {
        name,
        shape,
        stored,
        bytes,
    })
}

/// Makes sure that no two tensors share bytes or a name.
fn check_apart(tensors: &[TensorPlace]) -> Result<(), String> {
    let mut order: Vec<&TensorPlace> = tensors.iter().collect();
    order.sort_by_key(|tensor| tensor.bytes.start);
    for pair in order.windows(2) {
        if pair[0].bytes.end > pair[1].bytes.start {
            return Err(format!("tensors `{}` and `{}` overlap", pair[0].name, pair[1].name));
        }
    }
    order.sort_by_key(|tensor| &tensor.name);
    match order.windows(2).find(|pair| pair[0].name == pair[1].name) {
        Some(pair) => Err(format!("tensor `{}` is there twice", pair[0].name)),
        None => Ok(()),
    }
}

/// Reads values one after the other, never beyond the end.
struct Reader<'a> {
    bytes: &'a [u8],
    at: usize,
    /// Values of lists so far.
    listed: usize,
}

impl<'a> Reader<'a> {
    fn left(&self) -> usize {
        self.bytes.len() - self.at
    }

    fn take(&mut self, count: usize) -> Result<&'a [u8], String> {
        if count > self.left() {
            return Err(format!("{count} bytes are needed and {} are left", self.left()));
        }
        self.at += count;
        Ok(&self.bytes[self.at - count..self.at])
    }

    fn array<const N: usize>(&mut self) -> Result<[u8; N], String> {
        let mut array = [0; N];
        array.copy_from_slice(self.take(N)?);
        Ok(array)
    }

    fn u32(&mut self) -> Result<u32, String> {
        self.array().map(u32::from_le_bytes)
    }

    fn u64(&mut self) -> Result<u64, String> {
        self.array().map(u64::from_le_bytes)
    }

    /// Reads how many things follow, each of so many bytes or more.
    fn count(&mut self, least_bytes: usize) -> Result<usize, String> {
        let count = self.u64()?;
        match usize::try_from(count) {
            Ok(count) if count <= self.left() / least_bytes => Ok(count),
            _ => Err(format!(
                "it claims to hold {count} things of {least_bytes} bytes and has {} left",
                self.left()
            )),
        }
    }

    fn text(&mut self) -> Result<String, String> {
        let length = self.count(1)?;
        let bytes = self.take(length)?;
        // Tokens of some vocabularies are cut inside a character.
        Ok(String::from_utf8_lossy(bytes).into_owned())
    }

    fn value(&mut self, kind: u32, depth: usize) -> Result<Setting, String> {
        Ok(match kind {
            0 => Setting::Whole(self.array::<1>()?[0].into()),
            1 => Setting::Whole((self.array::<1>()?[0] as i8).into()),
            2 => Setting::Whole(u16::from_le_bytes(self.array()?).into()),
            3 => Setting::Whole(i16::from_le_bytes(self.array()?).into()),
            4 => Setting::Whole(self.u32()?.into()),
            5 => Setting::Whole(i32::from_le_bytes(self.array()?).into()),
            6 => Setting::Number(f32::from_le_bytes(self.array()?).into()),
            7 => Setting::Flag(self.array::<1>()?[0] != 0),
            8 => Setting::Text(self.text()?),
            9 => self.list_of(depth)?,
            10 => Setting::Whole(self.u64()?.into()),
            11 => Setting::Whole(i64::from_le_bytes(self.array()?).into()),
            12 => Setting::Number(f64::from_le_bytes(self.array()?)),
            other => return Err(format!("a setting is of type {other}; 0 to 12 are known")),
        })
    }

    fn list_of(&mut self, depth: usize) -> Result<Setting, String> {
        if depth >= DEEPEST {
            return Err(format!("lists are nested more than {DEEPEST} deep"));
        }
        let kind = self.u32()?;
        let least = match kind {
            0 | 1 | 7 => 1,
            2 | 3 => 2,
            4..=6 => 4,
            9 => 12,
            _ => 8,
        };
        let count = self.count(least)?;
        self.listed += count;
        if self.listed > MOST_LISTED {
            return Err(format!("its lists hold more than {MOST_LISTED} values"));
        }
        let mut list = Vec::new();
        for _ in 0..count {
            list.push(self.value(kind, depth + 1)?);
        }
        Ok(Setting::List(list))
    }
}
