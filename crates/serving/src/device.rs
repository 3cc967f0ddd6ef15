//! Devices of one kind, and which endpoint holds how much of their memory.

use std::fmt;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use vastrelay_fleet::ledger::{self, Holding, Ledger};
use vastrelay_planner::DeviceProfile;
use vastrelay_planner::amounts::bytes;

/// Something with memory that holds replicas, or several of a kind. Clones share them.
#[derive(Clone)]
pub struct Device(Arc<Inner>);

struct Inner {
    name: String,
    profile: Option<DeviceProfile>,
    /// Memory of each.
    total: usize,
    count: usize,
    /// The folder with the files through which replicas take turns.
    turns: PathBuf,
    /// Says how much of one is available to anybody now.
    available: Box<dyn Fn() -> usize + Send + Sync>,
    /// What replicas hold, with the bytes of it that lie in memory.
    held: Mutex<Ledger<Arc<AtomicUsize>>>,
}

/// What a replica holds of devices' memory, given back when it is dropped.
pub struct HeldMemory {
    device: Device,
    number: u64,
    places: Vec<usize>,
    resident: Arc<AtomicUsize>,
}

/// What devices have to give: of each, what the fullest of them has.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Room {
    /// Bytes that no replica holds.
    pub free: usize,
    /// Bytes that are available now: other programs may use more than the device's own replicas.
    pub available: usize,
    /// Who holds the others.
    pub holders: Holders,
}

/// Who holds a device's memory, for people.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Holders(Vec<(String, usize)>);

impl Device {
    /// Returns this machine's processors, with so many bytes of memory; `available` says how many of them anybody may take now.
    pub fn cpu(total: usize, available: impl Fn() -> usize + Send + Sync + 'static) -> Device {
        Device::new("cpu".into(), None, 1, total, PathBuf::new(), available)
    }

    /// Returns the simulated devices of a profile; replicas take turns on them through files in a folder.
    pub fn simulated(profile: DeviceProfile, turns: &Path) -> Device {
        let (name, count, total) = (profile.name.clone(), profile.count, profile.memory_bytes());
        Device::new(name, Some(profile), count, total, turns.to_owned(), || usize::MAX)
    }

    fn new(
        name: String,
        profile: Option<DeviceProfile>,
        count: usize,
        total: usize,
        turns: PathBuf,
        available: impl Fn() -> usize + Send + Sync + 'static,
    ) -> Device {
        Device(Arc::new(Inner {
            name,
            profile,
            total,
            count,
            turns,
            available: Box::new(available),
            held: Mutex::new(Ledger::new(count, total)),
        }))
    }

    /// Returns its name.
    pub fn name(&self) -> &str {
        &self.0.name
    }

    /// Returns the profile of simulated devices.
    pub fn profile(&self) -> Option<&DeviceProfile> {
        self.0.profile.as_ref()
    }

    /// Returns whether it stands in for hardware that is not here.
    pub fn is_simulated(&self) -> bool {
        self.0.profile.is_some()
    }

    /// Returns how many there are.
    pub fn count(&self) -> usize {
        self.0.count
    }

    /// Returns the memory of each, in bytes.
    pub fn total(&self) -> usize {
        self.0.total
    }

    /// Returns how many bytes of each anybody may take now.
    pub fn available(&self) -> usize {
        (self.0.available)().min(self.0.total)
    }

    /// Plans with the room there is on so many of them, those that have most, and holds what the plan takes of each, before anybody else
    /// plans. `plan` returns how many bytes that is.
    ///
    /// # Errors
    /// The plan's own.
    ///
    /// # Panics
    /// When there are not so many, or the plan takes more than is free.
    pub fn hold<T, E>(
        &self,
        endpoint: &str,
        count: usize,
        plan: impl FnOnce(Room) -> Result<(usize, T), E>,
    ) -> Result<(HeldMemory, T), E> {
        let mut held = self.lock();
        let ledger::Room { places, free, holders } = held
            .room(count)
            .unwrap_or_else(|| panic!("there are {} devices, not {count}", self.count()));
        // What is reserved and does not lie in memory yet still looks available.
        let promised: usize = held.holdings().map(promised).sum();
        let room = Room {
            free,
            available: (self.0.available)().saturating_sub(promised),
            holders: Holders(holders),
        };
        let (reserved, made) = plan(room)?;
        let resident = Arc::new(AtomicUsize::new(0));
        let number = held
            .hold(endpoint, &places, reserved, resident.clone())
            .unwrap_or_else(|error| panic!("a plan takes more than it was told: {error}"));
        let device = self.clone();
        Ok((
            HeldMemory {
                device,
                number,
                places,
                resident,
            },
            made,
        ))
    }

    fn lock(&self) -> MutexGuard<'_, Ledger<Arc<AtomicUsize>>> {
        self.0.held.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// Returns the bytes of a holding that do not lie in memory yet.
fn promised(holding: &Holding<Arc<AtomicUsize>>) -> usize {
    holding.bytes.saturating_sub(holding.with.load(Ordering::Relaxed))
}

impl HeldMemory {
    /// Returns the numbers of its devices, from 0 on.
    pub fn places(&self) -> &[usize] {
        &self.places
    }

    /// Returns the files of its devices' turns, always in the same order; see [`crate::turn::Turn`].
    pub(crate) fn turns(&self) -> Vec<PathBuf> {
        let (name, folder) = (self.device.name(), &self.device.0.turns);
        let of = |place: &usize| std::path::absolute(folder.join(format!("{name}-{place}")));
        self.places.iter().filter_map(|place| of(place).ok()).collect()
    }

    /// Returns the count of its bytes that lie in memory by now, which goes on counting.
    pub fn resident(&self) -> &Arc<AtomicUsize> {
        &self.resident
    }
}

impl Drop for HeldMemory {
    fn drop(&mut self) {
        self.device.lock().give_back(self.number);
    }
}

impl fmt::Debug for Device {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Device")
            .field("name", &self.0.name)
            .field("total", &self.0.total)
            .finish_non_exhaustive()
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
            .map(|(endpoint, held)| format!("`{endpoint}` {}", bytes(*held)))
            .collect();
        f.write_str(&each.join(", "))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_endpoints_hold_adds_up_and_is_given_back() {
        let device = Device::cpu(100, || usize::MAX);
        let take = |endpoint: &str, wanted: usize| {
            device.hold(endpoint, 1, |room| {
                if wanted <= room.free {
                    Ok((wanted, ()))
                } else {
                    Err((room.free, room.holders.to_string()))
                }
            })
        };
        let (first, ()) = take("a", 60).unwrap();
        assert_eq!(take("b", 50).err().unwrap(), (40, "`a` 60 B".to_owned()));
        let _second = take("b", 40).unwrap();
        drop(first);
        assert!(take("c", 60).is_ok());
    }

    #[test]
    fn replicas_are_placed_where_there_is_most_room() {
        let profile = DeviceProfile::shipped().remove(0);
        let device = Device::simulated(DeviceProfile { count: 3, ..profile }, Path::new("turns"));
        let take = |endpoint: &str, count: usize| {
            let held = device.hold(endpoint, count, |room| Ok::<_, ()>((100, room.free)));
            held.unwrap()
        };
        let (first, free) = take("a", 2);
        assert_eq!((first.places.clone(), free), (vec![0, 1], device.total()));
        let (second, free) = take("b", 2);
        assert_eq!((second.places.clone(), free), (vec![0, 2], device.total() - 100));
        drop(first);
        let (third, free) = take("c", 1);
        assert_eq!((third.places.clone(), free), (vec![1], device.total()));
        let names = |held: &HeldMemory| -> Vec<PathBuf> {
            let turns = held.turns().into_iter();
            turns.map(|turn| turn.file_name().unwrap().into()).collect()
        };
        assert_eq!(names(&second), ["sim-24g-0", "sim-24g-2"].map(PathBuf::from));
        assert_eq!(names(&third), ["sim-24g-1"].map(PathBuf::from));
    }

    #[test]
    fn what_is_promised_and_not_in_memory_yet_is_not_available() {
        let device = Device::cpu(1000, || 500);
        let available = || {
            let looked = device.hold("b", 1, |room| Err::<(usize, ()), usize>(room.available));
            looked.err().unwrap()
        };
        assert_eq!(available(), 500);
        let (held, ()) = device.hold("a", 1, |_| Ok::<_, ()>((200, ()))).unwrap();
        assert_eq!(available(), 300);
        held.resident().store(150, Ordering::Relaxed);
        assert_eq!(available(), 450);
    }
}
