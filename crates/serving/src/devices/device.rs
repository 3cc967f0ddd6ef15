//! Devices of one kind: their memory, their cores, and the memory of replicas that the system has not given yet.

use crate::devices::cores::Cores;
use std::fmt;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError, Weak};
use vastrelay_fleet::CoreShare;
use vastrelay_fleet::cores::CoreLedger;
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
    /// Memory of replicas, which the system gives by and by.
    reserved: Mutex<Vec<Weak<Reserved>>>,
    /// The processor's cores.
    cores: Option<Cores>,
}

/// Memory that a replica has reserved, and the part of it that lies in memory.
#[derive(Debug)]
pub struct Reserved {
    bytes: usize,
    resident: AtomicUsize,
}

impl Reserved {
    /// Returns how many of the bytes lie in memory by now.
    pub fn resident(&self) -> usize {
        self.resident.load(Ordering::Relaxed)
    }

    /// Notes that so many bytes lie in memory.
    pub fn lies_in_memory(&self, bytes: usize) {
        self.resident.store(bytes, Ordering::Relaxed);
    }

    /// Notes that the system has given so many more bytes.
    pub fn given(&self, bytes: usize) {
        self.resident.fetch_add(bytes, Ordering::Relaxed);
    }
}

/// The cores of a replica.
#[derive(Debug)]
pub struct ReplicaCores {
    threads: usize,
    share: Mutex<CoreShare>,
}

impl ReplicaCores {
    /// Returns the cores of a replica with this many threads, with one core for each thread until the decider says otherwise.
    pub fn new(threads: usize) -> ReplicaCores {
        ReplicaCores {
            threads,
            share: Mutex::new(CoreShare::whole(threads)),
        }
    }

    /// Returns the threads that its replica computes with.
    pub fn threads(&self) -> usize {
        self.threads
    }

    /// Returns its share of the cores now; cores that no spec names are shared.
    pub fn share(&self) -> CoreShare {
        *self.share.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Says what its part of the cores is from now on.
    pub fn set_share(&self, share: CoreShare) {
        *self.share.lock().unwrap_or_else(PoisonError::into_inner) = share;
    }

    /// Returns whether each of its threads now has an exclusive core.
    pub fn are_its_own(&self) -> bool {
        self.share() >= CoreShare::whole(self.threads)
    }
}

/// The holders of a device's memory, for people.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Holders(pub Vec<(String, usize)>);

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
        let inner = Inner {
            name: "cpu".into(),
            profile: None,
            total,
            count: 1,
            usual: Usual::on_cpu(total, reserve),
            turns: PathBuf::new(),
            available: Box::new(available),
            reserved: Mutex::default(),
            cores: Some(cores),
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
            reserved: Mutex::default(),
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
        self.0.cores
    }

    /// Returns the ledger of its cores, all free; `None` for simulated devices.
    pub fn core_ledger(&self) -> Option<CoreLedger> {
        self.cores().map(|cores| CoreLedger::new(cores.most, cores.usual(1)))
    }

    /// Reserves bytes for a replica, of which some are `there` already because others read them.
    ///
    /// # Errors
    /// The bytes that are available now, when they do not suffice: other programs may use more than the device's own replicas, and what is
    /// reserved and does not lie in memory yet still looks available.
    pub fn reserve(&self, bytes: usize, there: usize) -> Result<Arc<Reserved>, usize> {
        let mut reserved = self.reserved();
        reserved.retain(|reserved| reserved.strong_count() > 0);
        let promised: usize = reserved
            .iter()
            .filter_map(Weak::upgrade)
            .map(|one| one.promised())
            .sum();
        let available = (self.0.available)().saturating_sub(promised);
        if bytes.saturating_sub(there) > available {
            return Err(available);
        }
        Ok(Reserved::add(&mut reserved, bytes))
    }

    /// Reserves bytes for a replica whose worker has them already.
    pub fn reserve_anyway(&self, bytes: usize) -> Arc<Reserved> {
        Reserved::add(&mut self.reserved(), bytes)
    }

    /// Returns the files through which replicas on some of the devices take turns, always in the same order; see [`crate::devices::turn::Turn`].
    pub(crate) fn turns(&self, places: &[usize]) -> Vec<PathBuf> {
        let of = |place: &usize| std::path::absolute(self.0.turns.join(format!("{}-{place}", self.name())));
        places.iter().filter_map(|place| of(place).ok()).collect()
    }

    fn reserved(&self) -> MutexGuard<'_, Vec<Weak<Reserved>>> {
        self.0.reserved.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Reserved {
    fn add(all: &mut Vec<Weak<Reserved>>, bytes: usize) -> Arc<Reserved> {
        let one = Arc::new(Reserved {
            bytes,
            resident: AtomicUsize::new(0),
        });
        all.push(Arc::downgrade(&one));
        one
    }

    /// Returns the bytes that do not lie in memory yet.
    fn promised(&self) -> usize {
        self.bytes.saturating_sub(self.resident())
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
    fn what_is_promised_and_not_in_memory_yet_is_not_available() {
        let device = Device::cpu(1000, Cores::of_machine(2), || 500);
        let available = || device.reserve(usize::MAX, 0).unwrap_err();
        assert_eq!(available(), 500);
        let held = device.reserve(200, 0).unwrap();
        assert_eq!(available(), 300);
        held.lies_in_memory(150);
        assert_eq!(available(), 450);
        assert_eq!(device.reserve(451, 0).unwrap_err(), 450);
        let beside = device.reserve(451, 1).unwrap();
        assert_eq!(available(), 0);
        drop((held, beside));
        assert_eq!(available(), 500);
        let adopted = device.reserve_anyway(600);
        assert_eq!(available(), 0);
        adopted.given(400);
        assert_eq!(available(), 300);
    }

    #[test]
    fn replicas_take_turns_through_the_files_of_their_devices() {
        let profile = DeviceProfile::shipped().remove(0);
        let device = Device::simulated(profile, Path::new("turns"));
        let turns = device.turns(&[0, 2]);
        let names: Vec<_> = turns.iter().map(|turn| turn.file_name().unwrap()).collect();
        assert_eq!(names, ["sim-24g-0", "sim-24g-2"]);
        assert!(turns.iter().all(|turn| turn.is_absolute()));
        assert!(device.core_ledger().is_none());
    }
}
