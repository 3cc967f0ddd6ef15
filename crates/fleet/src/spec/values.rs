//! Values of a spec as TOML writes them.

use crate::answering::NamedToken;
use serde::de::{self, Deserialize, Deserializer, Unexpected, Visitor};
use std::fmt;

/// A whole number from 1 on.
pub struct Count(pub usize);

impl<'de> Deserialize<'de> for Count {
    fn deserialize<D: Deserializer<'de>>(from: D) -> Result<Count, D::Error> {
        from.deserialize_any(Counting)
    }
}

struct Counting;

impl Visitor<'_> for Counting {
    type Value = Count;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("a whole number from 1 on")
    }

    fn visit_i64<E: de::Error>(self, value: i64) -> Result<Count, E> {
        let count = usize::try_from(value).ok().filter(|count| *count > 0);
        count
            .map(Count)
            .ok_or_else(|| E::invalid_value(Unexpected::Signed(value), &self))
    }
}

/// A number, whole or not.
pub struct Number(pub f64);

impl<'de> Deserialize<'de> for Number {
    fn deserialize<D: Deserializer<'de>>(from: D) -> Result<Number, D::Error> {
        from.deserialize_any(Numbering)
    }
}

struct Numbering;

impl Visitor<'_> for Numbering {
    type Value = Number;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("a number")
    }

    fn visit_i64<E: de::Error>(self, value: i64) -> Result<Number, E> {
        Ok(Number(value as f64))
    }

    fn visit_f64<E: de::Error>(self, value: f64) -> Result<Number, E> {
        Ok(Number(value))
    }
}

/// A length of time as it was written; a number is one of seconds.
pub struct Time(pub String);

impl<'de> Deserialize<'de> for Time {
    fn deserialize<D: Deserializer<'de>>(from: D) -> Result<Time, D::Error> {
        from.deserialize_any(Timing)
    }
}

struct Timing;

impl Visitor<'_> for Timing {
    type Value = Time;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("a length of time such as \"30s\", or a number of seconds")
    }

    fn visit_str<E: de::Error>(self, text: &str) -> Result<Time, E> {
        Ok(Time(text.to_owned()))
    }

    fn visit_i64<E: de::Error>(self, seconds: i64) -> Result<Time, E> {
        Ok(Time(format!("{seconds}s")))
    }

    fn visit_f64<E: de::Error>(self, seconds: f64) -> Result<Time, E> {
        Ok(Time(format!("{}ms", (seconds * 1e3).round())))
    }
}

/// A name, or a list of them.
pub struct Names(pub Vec<String>);

impl<'de> Deserialize<'de> for Names {
    fn deserialize<D: Deserializer<'de>>(from: D) -> Result<Names, D::Error> {
        from.deserialize_any(Naming)
    }
}

struct Naming;

impl<'de> Visitor<'de> for Naming {
    type Value = Names;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("the name of a device profile or a list of names")
    }

    fn visit_str<E: de::Error>(self, name: &str) -> Result<Names, E> {
        Ok(Names(vec![name.to_owned()]))
    }

    fn visit_seq<A: de::SeqAccess<'de>>(self, mut names: A) -> Result<Names, A::Error> {
        let mut all = Vec::new();
        while let Some(name) = names.next_element::<String>()? {
            all.push(name);
        }
        if all.is_empty() {
            return Err(de::Error::invalid_length(0, &self));
        }
        Ok(Names(all))
    }
}

impl<'de> Deserialize<'de> for NamedToken {
    fn deserialize<D: Deserializer<'de>>(from: D) -> Result<NamedToken, D::Error> {
        from.deserialize_any(NamingToken)
    }
}

struct NamingToken;

impl Visitor<'_> for NamingToken {
    type Value = NamedToken;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("a token's text or its number")
    }

    fn visit_str<E: de::Error>(self, text: &str) -> Result<NamedToken, E> {
        Ok(NamedToken::Text(text.to_owned()))
    }

    fn visit_i64<E: de::Error>(self, id: i64) -> Result<NamedToken, E> {
        let read = u32::try_from(id).map(NamedToken::Id);
        read.map_err(|_| E::invalid_value(Unexpected::Signed(id), &self))
    }
}
