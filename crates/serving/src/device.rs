//! Devices of one kind, and which endpoint holds how much of their memory and cores.

use crate::cores::Cores;
use std::fmt;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError, Weak};
use vastrelay_fleet::CoreShare;
use vastrelay_fleet::cores::{CoreLedger, CoreWish, NoCores};
use vastrelay_fleet::ledger::{self, Holding, Ledger, Read};
use vastrelay_planner::amounts::bytes;
use vastrelay_planner::{DeviceProfile, Hardware, Usual};

/// Something with memory that holds replicas, or several of a kind. Clones share them.
#[derive(Clone)]
pub struct Device(Arc<Inner>);

struct Inner {
    name: String,
    profile: Option<DeviceProfile>,
    /// Memory of each.
    total: usize,
    count: usize,
    usual: Usual,
    /// The folder with the files through which replicas take turns.
    turns: PathBuf,
    /// Returns the bytes of one device that are available to any program now.
    available: Box<dyn Fn() -> usize + Send + Sync>,
    /// The holdings of replicas, with their bytes that lie in memory.
    held: Mutex<Ledger<Arc<AtomicUsize>>>,
    /// The processor's cores, and who holds them.
    cores: Option<(Cores, Mutex<CoreLedger>)>,
}

/// What a replica holds of the processor's cores, given back when it is dropped.
pub struct HeldCores {
    device: Device,
    number: u64,
    threads: usize,
}

/// What a replica holds of devices' memory, given back when it is dropped.
pub struct HeldMemory {
    device: Device,
    number: u64,
    places: Vec<usize>,
    reads: Option<String>,
    resident: Arc<AtomicUsize>,
}

/// Tells whether something is still held of a device, without holding it.
#[derive(Clone)]
pub struct Ticket {
    device: WeakDevice,
    number: u64,
}

impl Ticket {
    /// Returns whether it is.
    pub fn is_held(&self) -> bool {
        let device = self.device.upgrade();
        device.is_some_and(|device| device.lock().is_held(self.number))
    }
}

/// What devices have to give: of each, what the fullest of them has.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Room {
    /// Bytes that no replica holds.
    pub free: usize,
    /// Bytes of what is to be read that others hold already.
    pub there: usize,
    /// Bytes that are available now: other programs may use more than the device's own replicas.
    pub available: usize,
    /// Who holds the others.
    pub holders: Holders,
}

/// What a plan takes of each of its devices.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Take {
    /// Bytes of its own.
    pub own: usize,
    /// Bytes that others may read, too.
    pub read: usize,
}

/// Who holds a device's memory, for people.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Holders(Vec<(String, usize)>);

/// A reference that does not keep a device alive.
#[derive(Clone)]
pub(crate) struct WeakDevice(Weak<Inner>);

impl WeakDevice {
    /// Returns the device, while an endpoint has it.
    pub fn upgrade(&self) -> Option<Device> {
        self.0.upgrade().map(Device)
    }
}

impl fmt::Debug for WeakDevice {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.upgrade().fmt(f)
    }
}

impl Device {
    /// Returns what finds it again without keeping it.
    pub(crate) fn downgrade(&self) -> WeakDevice {
        WeakDevice(Arc::downgrade(&self.0))
    }

    /// Returns the settings of a replica there where nothing sets them.
    pub fn usual(&self) -> Usual {
        self.0.usual
    }

    /// Returns the bytes that replicas hold of one of the devices, also those that come or go.
    pub fn held_of(&self, place: usize) -> usize {
        self.lock().taken_of(place)
    }

    /// Returns this machine's processor, with so many bytes of memory and these cores; `available` returns the bytes that any program may take now.
    pub fn cpu(total: usize, cores: Cores, available: impl Fn() -> usize + Send + Sync + 'static) -> Device {
        Device::cpu_with(total, None, cores, available)
    }

    /// The same, where the system and other programs need `reserve` bytes of the memory.
    pub fn cpu_with(
        total: usize,
        reserve: Option<usize>,
        cores: Cores,
        available: impl Fn() -> usize + Send + Sync + 'static,
    ) -> Device {
        let ledger = CoreLedger::new(cores.most, cores.usual(1));
        let inner = Inner {
            name: "cpu".into(),
            profile: None,
            total,
            count: 1,
            usual: Usual::on_cpu(total, reserve),
            turns: PathBuf::new(),
            available: Box::new(available),
            held: Mutex::new(Ledger::new(1, total)),
            cores: Some((cores, Mutex::new(ledger))),
        };
        Device(Arc::new(inner))
    }

    /// Returns the simulated devices of a profile; replicas take turns on them through files in a folder.
    pub fn simulated(profile: DeviceProfile, turns: &Path) -> Device {
        let (count, total) = (profile.count, profile.memory_bytes());
        Device(Arc::new(Inner {
            name: profile.name.clone(),
            usual: profile.usual(),
            profile: Some(profile),
            total,
            count,
            turns: turns.to_owned(),
            available: Box::new(|| usize::MAX),
            held: Mutex::new(Ledger::new(count, total)),
            cores: None,
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

    /// Returns the processor's cores; simulated devices have none.
    pub fn cores(&self) -> Option<Cores> {
        self.0.cores.as_ref().map(|(cores, _)| *cores)
    }

    /// Holds cores of the processor; nothing on simulated devices, which have none.
    ///
    /// # Errors
    /// When there are not so many, or the others could not go on with what is left.
    pub fn hold_cores(&self, endpoint: &str, wish: CoreWish) -> Result<Option<HeldCores>, NoCores> {
        let Some((_, ledger)) = &self.0.cores else {
            return Ok(None);
        };
        let grant = ledger
            .lock()
            .unwrap_or_else(PoisonError::into_inner)
            .take(endpoint, wish)?;
        Ok(Some(HeldCores {
            device: self.clone(),
            number: grant.number,
            threads: grant.threads,
        }))
    }

    /// Plans with the room there is on so many of them, those that have most, and holds what the plan takes of each, before anybody else
    /// plans. `plan` returns how many bytes that is, and what it reads that others may read, too, whose bytes are among them.
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
        reads: Option<&str>,
        plan: impl FnOnce(Room) -> Result<(Take, T), E>,
    ) -> Result<(HeldMemory, T), E> {
        let mut held = self.lock();
        let ledger::Room {
            places,
            free,
            there,
            holders,
        } = held
            .room(count, reads)
            .unwrap_or_else(|| panic!("there are {} devices, not {count}", self.count()));
        // What is reserved and does not lie in memory yet still looks available.
        let promised: usize = held.holdings().map(promised).sum();
        let room = Room {
            free,
            there,
            available: (self.0.available)().saturating_sub(promised),
            holders: Holders(holders),
        };
        let (Take { own, read }, made) = plan(room)?;
        let resident = Arc::new(AtomicUsize::new(0));
        let read = reads.map(|what| Read {
            what: what.to_owned(),
            bytes: read,
        });
        let number = held
            .hold(endpoint, &places, own, read, resident.clone())
            .unwrap_or_else(|error| panic!("a plan takes more than it was told: {error}"));
        let device = self.clone();
        Ok((
            HeldMemory {
                device,
                number,
                places,
                reads: reads.map(str::to_owned),
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
    holding.all().saturating_sub(holding.with.load(Ordering::Relaxed))
}

impl HeldMemory {
    /// Returns the numbers of its devices, from 0 on.
    pub fn places(&self) -> &[usize] {
        &self.places
    }

    /// Returns what tells how long it is held.
    pub fn ticket(&self) -> Ticket {
        Ticket {
            device: self.device.downgrade(),
            number: self.number,
        }
    }

    /// Returns what it reads that others may read, too.
    pub fn reads(&self) -> Option<&str> {
        self.reads.as_deref()
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

impl HeldCores {
    /// Returns the threads that its replica computes with.
    pub fn threads(&self) -> usize {
        self.threads
    }

    /// Returns what its endpoint holds now: what nobody has named is shared with whoever else is there.
    pub fn share(&self) -> CoreShare {
        self.ledger().share(self.number)
    }

    /// Returns whether each of its threads has a core of its own now.
    pub fn are_its_own(&self) -> bool {
        self.share() >= CoreShare::whole(self.threads)
    }

    fn ledger(&self) -> MutexGuard<'_, CoreLedger> {
        let (_, ledger) = self.device.0.cores.as_ref().expect("a device with cores gave them");
        ledger.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Drop for HeldCores {
    fn drop(&mut self) {
        self.ledger().give_back(self.number);
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

    fn own(own: usize) -> Take {
        Take { own, read: 0 }
    }

    #[test]
    fn what_endpoints_hold_adds_up_and_is_given_back() {
        let device = Device::cpu(100, Cores::of_machine(2), || usize::MAX);
        let take = |endpoint: &str, wanted: usize| {
            device.hold(endpoint, 1, None, |room| {
                if wanted <= room.free {
                    Ok((own(wanted), ()))
                } else {
                    Err((room.free, room.holders.to_string()))
                }
            })
        };
        let (first, ()) = take("a", 60).unwrap();
        let ticket = first.ticket();
        assert_eq!(take("b", 50).err().unwrap(), (40, "`a` 60 B".to_owned()));
        let _second = take("b", 40).unwrap();
        assert!(ticket.is_held());
        drop(first);
        assert!(!ticket.is_held());
        assert!(take("c", 60).is_ok());
    }

    #[test]
    fn replicas_are_placed_where_there_is_most_room() {
        let profile = DeviceProfile::shipped().remove(0);
        let device = Device::simulated(DeviceProfile { count: 3, ..profile }, Path::new("turns"));
        let take = |endpoint: &str, count: usize| {
            let held = device.hold(endpoint, count, None, |room| Ok::<_, ()>((own(100), room.free)));
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
        let device = Device::cpu(1000, Cores::of_machine(2), || 500);
        let available = || {
            let looked = device.hold("b", 1, None, |room| Err::<(Take, ()), usize>(room.available));
            looked.err().unwrap()
        };
        assert_eq!(available(), 500);
        let (held, ()) = device.hold("a", 1, None, |_| Ok::<_, ()>((own(200), ()))).unwrap();
        assert_eq!(available(), 300);
        held.resident().store(150, Ordering::Relaxed);
        assert_eq!(available(), 450);
    }

    #[test]
    fn what_two_read_is_held_once() {
        let device = Device::cpu(100, Cores::of_machine(2), || usize::MAX);
        let take = |endpoint: &str| {
            let read = Take { own: 20, read: 50 };
            device.hold(endpoint, 1, Some("build"), |room| {
                Ok::<_, ()>((read, (room.free, room.there)))
            })
        };
        let (first, room) = take("a").unwrap();
        assert_eq!(room, (100, 0));
        let (_second, room) = take("b").unwrap();
        assert_eq!(room, (30, 50));
        drop(first);
        assert_eq!(take("c").unwrap().1, (30, 50));
    }

    #[test]
    fn cores_are_shared_by_those_who_name_none() {
        let device = Device::cpu(100, Cores::of_machine(2), || usize::MAX);
        let free = CoreWish::Free { least: 1, most: 1 };
        let first = device.hold_cores("a", free).unwrap().unwrap();
        assert!(first.are_its_own());
        let second = device.hold_cores("b", free).unwrap().unwrap();
        assert!(first.are_its_own() && second.are_its_own(), "there is one for each");
        let third = device.hold_cores("c", free).unwrap().unwrap();
        assert!(!first.are_its_own() && !third.are_its_own());
        drop(third);
        assert!(first.are_its_own());
        let profile = DeviceProfile::shipped().remove(0);
        let simulated = Device::simulated(profile, Path::new("turns"));
        assert!(simulated.hold_cores("a", free).unwrap().is_none());
    }
}
