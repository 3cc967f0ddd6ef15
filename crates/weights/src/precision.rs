//! Precisions: what weights are computed in, and what keys and values are kept in. What one is called for people is its `Display`; what
//! it is, its parts.

use serde::{Deserialize, Serialize};
use std::fmt;
use std::str::FromStr;
pub use vastrelay_kernels::attention::KvPrecision;
pub use vastrelay_kernels::groups::Bits;

/// What weights are turned into when they are loaded.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash)]
pub enum Precision {
    /// The nearest that executes and loses nothing.
    #[default]
    AsStored,
    /// 32-bit floats.
    F32,
    /// Brain floats.
    Bf16,
    /// Small numbers in groups that share a scale.
    Groups {
        /// Bits of a number.
        bits: Bits,
        /// Inputs that share a scale.
        group: usize,
    },
}

/// Inputs that share a scale unless somebody says otherwise.
const USUAL_GROUP: usize = 32;
/// Numbers of inputs that can share a scale.
const GROUPS: [usize; 3] = [32, 64, 128];

impl Precision {
    /// Returns the precision of a word, with a group size where it has one.
    ///
    /// # Errors
    /// When there is no such precision, or it has no groups, or not of this size; the text says what works.
    pub fn of(word: &str, group: Option<usize>) -> Result<Precision, String> {
        match (word.parse()?, group) {
            (precision, None) => Ok(precision),
            (Precision::Groups { bits, .. }, Some(group)) if GROUPS.contains(&group) => {
                Ok(Precision::Groups { bits, group })
            }
            (Precision::Groups { .. }, Some(group)) => {
                Err(format!("a group of {group} does not work; use 32, 64 or 128"))
            }
            (precision, Some(_)) => Err(format!(
                "a group works with int8 and int4 only; {precision} has no groups"
            )),
        }
    }

    /// Returns its word, without the group size.
    pub fn word(self) -> &'static str {
        match self {
            Precision::AsStored => "as-stored",
            Precision::F32 => "f32",
            Precision::Bf16 => "bf16",
            Precision::Groups { bits: Bits::Eight, .. } => "int8",
            Precision::Groups { bits: Bits::Four, .. } => "int4",
        }
    }

    /// Says in a sentence what a model is converted to.
    pub fn phrase(self) -> String {
        match self {
            Precision::AsStored => "as stored".into(),
            named => format!("in {named}"),
        }
    }

    /// Returns how many inputs share a scale, where they do.
    pub fn group(self) -> Option<usize> {
        match self {
            Precision::Groups { group, .. } => Some(group),
            _ => None,
        }
    }

    /// Returns the precision of embeddings and head: what has groups keeps them as they are stored.
    pub fn of_embeddings(self) -> Precision {
        match self {
            Precision::Groups { .. } => Precision::AsStored,
            other => other,
        }
    }
}

impl fmt::Display for Precision {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.word())?;
        match self.group() {
            Some(group) => write!(f, ", groups of {group}"),
            None => Ok(()),
        }
    }
}

/// The word of a precision, without its group size.
impl FromStr for Precision {
    type Err = String;

    fn from_str(word: &str) -> Result<Precision, String> {
        let groups = |bits| Precision::Groups {
            bits,
            group: USUAL_GROUP,
        };
        match word {
            "as-stored" => Ok(Precision::AsStored),
            "f32" => Ok(Precision::F32),
            "bf16" => Ok(Precision::Bf16),
            "int8" => Ok(groups(Bits::Eight)),
            "int4" => Ok(groups(Bits::Four)),
            other => Err(format!(
                "`{other}` is not a precision; use as-stored, f32, bf16, int8 or int4"
            )),
        }
    }
}

/// The precisions of a model.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash, Deserialize, Serialize)]
#[serde(try_from = "PrecisionNames", into = "PrecisionNames")]
pub struct Precisions {
    /// Its weights.
    pub weights: Precision,
    /// Its keys and values.
    pub kv: KvPrecision,
}

/// Precisions as they are written down.
#[derive(Deserialize, Serialize)]
struct PrecisionNames {
    weights: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    group: Option<usize>,
    kv: String,
}

impl From<Precisions> for PrecisionNames {
    fn from(precisions: Precisions) -> PrecisionNames {
        PrecisionNames {
            weights: precisions.weights.word().into(),
            group: precisions.weights.group(),
            kv: precisions.kv.name().into(),
        }
    }
}

impl TryFrom<PrecisionNames> for Precisions {
    type Error = String;

    fn try_from(words: PrecisionNames) -> Result<Precisions, String> {
        let kv = KvPrecision::of(&words.kv);
        Ok(Precisions {
            weights: Precision::of(&words.weights, words.group)?,
            kv: kv.ok_or_else(|| format!("`{}` is not a KV precision; use f32, bf16 or int8", words.kv))?,
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn precisions() -> impl Strategy<Value = Precisions> {
        let weights = prop_oneof![
            Just(Precision::AsStored),
            Just(Precision::F32),
            Just(Precision::Bf16),
            (
                prop_oneof![Just(Bits::Eight), Just(Bits::Four)],
                prop::sample::select(&GROUPS[..])
            )
                .prop_map(|(bits, group)| Precision::Groups { bits, group }),
        ];
        let kv = prop::sample::select(vec![KvPrecision::F32, KvPrecision::Bf16, KvPrecision::Int8]);
        (weights, kv).prop_map(|(weights, kv)| Precisions { weights, kv })
    }

    proptest! {
        #[test]
        fn precisions_survive_being_written_down(precisions in precisions()) {
            let written = serde_json::to_string(&precisions).unwrap();
            prop_assert_eq!(serde_json::from_str::<Precisions>(&written).unwrap(), precisions);
            prop_assert_eq!(Precision::of(precisions.weights.word(), precisions.weights.group()).unwrap(), precisions.weights);
        }
    }

    #[test]
    fn what_is_no_precision_is_refused_with_what_works() {
        for (word, group, hint) in [
            ("int3", None, "int8 or int4"),
            ("int4", Some(48), "32, 64 or 128"),
            ("bf16", Some(32), "has no groups"),
        ] {
            let error = Precision::of(word, group).unwrap_err();
            assert!(error.contains(hint), "{error}");
        }
        assert!(serde_json::from_str::<Precisions>(r#"{"weights": "f32", "kv": "int4"}"#).is_err());
        assert_eq!(
            Precision::of("int4", Some(64)).unwrap().to_string(),
            "int4, groups of 64"
        );
    }
}
