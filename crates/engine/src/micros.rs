//! Time as a value.

/// A moment, in microseconds since some start.
pub type Micros = u64;
