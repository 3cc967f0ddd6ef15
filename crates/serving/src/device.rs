//! A device's memory, and which model holds how much of it.

use crate::memory::bytes;
use std::collections::BTreeMap;
use std::fmt;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

/// The memory of one device. Clones share it.
#[derive(Clone, Debug)]
pub struct DeviceMemory(Arc<Inner>);

#[derive(Debug)]
struct Inner {
    total: usize,
    held: Mutex<BTreeMap<u64, (String, usize)>>,
    next: AtomicU64,
}

/// What a model holds of a device's memory, given back when it is dropped.
#[derive(Debug)]
pub struct HeldMemory {
    device: DeviceMemory,
    number: u64,
}

/// Who holds a device's memory, for people.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Holders(Vec<(String, usize)>);

impl DeviceMemory {
    /// Returns the memory of a device that nobody uses.
    pub fn new(total: usize) -> DeviceMemory {
        DeviceMemory(Arc::new(Inner {
            total,
            held: Mutex::default(),
            next: AtomicU64::new(0),
        }))
    }

    /// Returns all of it, in bytes.
    pub fn total(&self) -> usize {
        self.0.total
    }

    /// Plans with what is free and holds what the plan takes, before anybody else plans.
    ///
    /// `plan` gets the free bytes and who holds the others, and returns how many bytes it takes.
    ///
    /// # Errors
    /// The plan's own.
    ///
    /// # Panics
    /// When the plan takes more than is free.
    pub fn hold<T, E>(
        &self,
        model: &str,
        plan: impl FnOnce(usize, Holders) -> Result<(usize, T), E>,
    ) -> Result<(HeldMemory, T), E> {
        let mut held = self.lock();
        let taken: usize = held.values().map(|(_, bytes)| bytes).sum();
        let free = self.0.total.saturating_sub(taken);
        let holders = held.values().cloned().collect();
        let (bytes, made) = plan(free, Holders(holders))?;
        assert!(bytes <= free, "a plan takes {bytes} bytes where {free} are free");
        let number = self.0.next.fetch_add(1, Ordering::Relaxed);
        held.insert(number, (model.to_owned(), bytes));
        let device = self.clone();
        Ok((HeldMemory { device, number }, made))
    }

    fn lock(&self) -> MutexGuard<'_, BTreeMap<u64, (String, usize)>> {
        self.0.held.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Drop for HeldMemory {
    fn drop(&mut self) {
        self.device.lock().remove(&self.number);
    }
}

impl Holders {
    /// Returns whether nobody holds anything.
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }
}

impl fmt::Display for Holders {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let each: Vec<String> = self
            .0
            .iter()
            .map(|(model, held)| format!("`{model}` {}", bytes(*held)))
            .collect();
        f.write_str(&each.join(", "))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_models_hold_adds_up_and_is_given_back() {
        let device = DeviceMemory::new(100);
        let take = |model: &str, wanted: usize| {
            device.hold(model, |free, holders| {
                if wanted <= free {
                    Ok((wanted, ()))
                } else {
                    Err((free, holders.to_string()))
                }
            })
        };
        let (first, ()) = take("a", 60).unwrap();
        assert_eq!(take("b", 50).unwrap_err(), (40, "`a` 60 B".to_owned()));
        let _second = take("b", 40).unwrap();
        drop(first);
        assert!(take("c", 60).is_ok());
    }
}
