//! Values of which little or nothing is kept: a caller may send megabytes where a word is enough.

use serde::de::{Deserializer, Error, IgnoredAny, SeqAccess, Visitor};
use serde::{Deserialize, Serialize, Serializer};
use std::fmt;
use std::marker::PhantomData;

/// Any value; nothing of it is kept.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Ignored;

impl<'de> Deserialize<'de> for Ignored {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Ignored, D::Error> {
        IgnoredAny::deserialize(deserializer).map(|_| Ignored)
    }
}

impl Serialize for Ignored {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_unit()
    }
}

/// A list of which only the length is kept.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Count(pub usize);

impl<'de> Deserialize<'de> for Count {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Count, D::Error> {
        struct Counting;
        impl<'de> Visitor<'de> for Counting {
            type Value = Count;

            fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str("a list")
            }

            fn visit_seq<A: SeqAccess<'de>>(self, mut list: A) -> Result<Count, A::Error> {
                let mut count = 0;
                while list.next_element::<IgnoredAny>()?.is_some() {
                    count += 1;
                }
                Ok(Count(count))
            }
        }
        deserializer.deserialize_seq(Counting)
    }
}

impl Serialize for Count {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_seq((0..self.0).map(|_| Ignored))
    }
}

/// Reads a list of up to `MOST` elements and stops at the first one beyond, before anything is done with them.
///
/// # Errors
/// When there are more, or one cannot be read.
pub fn list<'de, const MOST: usize, D, T>(deserializer: D) -> Result<Vec<T>, D::Error>
where
    D: Deserializer<'de>,
    T: Deserialize<'de>,
{
    struct Bounded<const MOST: usize, T>(PhantomData<T>);
    impl<'de, const MOST: usize, T: Deserialize<'de>> Visitor<'de> for Bounded<MOST, T> {
        type Value = Vec<T>;

        fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
            write!(f, "a list of up to {MOST} elements")
        }

        fn visit_seq<A: SeqAccess<'de>>(self, list: A) -> Result<Vec<T>, A::Error> {
            elements(list, MOST)
        }
    }
    deserializer.deserialize_seq(Bounded::<MOST, T>(PhantomData))
}

/// Reads the elements of a list, up to `most`.
pub(crate) fn elements<'de, A: SeqAccess<'de>, T: Deserialize<'de>>(
    mut list: A,
    most: usize,
) -> Result<Vec<T>, A::Error> {
    let mut elements = Vec::new();
    while let Some(element) = list.next_element()? {
        if elements.len() == most {
            return Err(A::Error::custom(format!("the list has more than {most} elements")));
        }
        elements.push(element);
    }
    Ok(elements)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_what_matters_of_a_value_is_kept() {
        assert_eq!(serde_json::from_str::<Count>("[1, {}, [2]]").unwrap(), Count(3));
        assert!(serde_json::from_str::<Count>("{}").is_err());
    }

    #[test]
    fn a_list_is_refused_at_the_first_element_beyond_its_bound() {
        let read = |text: &str| list::<2, _, u8>(&mut serde_json::Deserializer::from_str(text));
        assert_eq!(read("[1, 2]").unwrap(), [1, 2]);
        // What follows the third element is not read: it would not parse.
        let error = read("[1, 2, 3, oops").unwrap_err().to_string();
        assert!(error.contains("more than 2 elements"), "{error}");
    }
}
