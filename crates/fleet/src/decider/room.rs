//! The ledger of all devices, as the decider reserves in it.

use super::{Incarnation, RunId};
use crate::ledger::{Ledger, Read, Room};
use std::collections::BTreeMap;

/// The memory that something needs on a kind of device.
pub trait Need: Clone {
    /// Returns the name of the kind of device.
    fn device(&self) -> &str;
    /// Returns how many of them it takes.
    fn count(&self) -> usize;
    /// Returns the name of what it reads and others may read, too.
    fn reads(&self) -> Option<&str>;
    /// Returns the bytes that it takes of each device where there is so much room.
    ///
    /// # Errors
    /// Why the room does not do.
    fn take(&self, room: &Room) -> Result<Take, String>;
}

/// The memory that a holder takes of each device.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Take {
    /// Private bytes.
    pub own: usize,
    /// Bytes of what it reads and others may read, too.
    pub read: usize,
}

/// A holder of memory.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Holder {
    /// A run.
    Run(RunId),
    /// A worker of an earlier service, before its adoption.
    Left(Incarnation),
}

/// Memory that is taken of certain devices.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Taken {
    /// The kind of device.
    pub device: String,
    /// Which of them, by number from 0 on.
    pub places: Vec<usize>,
    /// Bytes of each.
    pub take: Take,
    /// The name of what is read and others may read, too.
    pub reads: Option<String>,
}

/// Memory that is held.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Hold {
    number: u64,
    /// The memory.
    pub taken: Taken,
}

/// The ledger of each kind of device, by its name.
#[derive(Clone, Debug, Default)]
pub struct Ledgers(BTreeMap<String, Ledger<Holder>>);

impl Ledgers {
    /// Adds a kind of device: so many with so many bytes each. One that is known stays as it is.
    pub fn add(&mut self, device: &str, count: usize, memory: usize) {
        self.0
            .entry(device.to_owned())
            .or_insert_with(|| Ledger::new(count, memory));
    }

    /// Returns the ledger of each kind of device, by its name.
    pub fn all(&self) -> &BTreeMap<String, Ledger<Holder>> {
        &self.0
    }

    /// Holds memory on the first kind of device that has room.
    ///
    /// # Errors
    /// Why none has.
    pub(super) fn hold<N: Need>(&mut self, owner: &str, needs: &[N], holder: Holder) -> Result<Hold, String> {
        let mut reasons = Vec::new();
        for need in needs {
            match self.hold_one(owner, need, holder) {
                Ok(hold) => return Ok(hold),
                Err(why) => reasons.push(why),
            }
        }
        Err(reasons.join("; "))
    }

    fn hold_one<N: Need>(&mut self, owner: &str, need: &N, holder: Holder) -> Result<Hold, String> {
        let device = need.device();
        let ledger = self.0.get(device);
        let ledger = ledger.ok_or_else(|| format!("there is no device `{device}`"))?;
        let room = ledger.room(need.count(), need.reads());
        let room = room.ok_or_else(|| format!("there are not {} of `{device}`", need.count()))?;
        let taken = Taken {
            device: device.to_owned(),
            take: need.take(&room)?,
            places: room.places,
            reads: need.reads().map(str::to_owned),
        };
        self.hold_taken(owner, taken, holder)
    }

    /// Holds memory of certain devices.
    ///
    /// # Errors
    /// When they have not so much, or are not there.
    pub(super) fn hold_taken(&mut self, owner: &str, taken: Taken, holder: Holder) -> Result<Hold, String> {
        let Taken {
            device,
            places,
            take,
            reads,
        } = &taken;
        let ledger = self.0.get_mut(device);
        let ledger = ledger.ok_or_else(|| format!("there is no device `{device}`"))?;
        let read = reads.as_ref().map(|what| Read {
            what: what.clone(),
            bytes: take.read,
        });
        let number = ledger.hold(owner, places, take.own, read, holder);
        Ok(Hold {
            number: number.map_err(|overbooked| format!("{device}: {overbooked}"))?,
            taken,
        })
    }

    /// Gives memory back.
    pub(super) fn give_back(&mut self, hold: &Hold) {
        let ledger = self.0.get_mut(&hold.taken.device);
        ledger.and_then(|ledger| ledger.give_back(hold.number));
    }

    /// Hands memory over to another holder.
    pub(super) fn hand_over(&mut self, hold: &Hold, to: Holder) {
        if let Some(ledger) = self.0.get_mut(&hold.taken.device) {
            ledger.hand_over(hold.number, to);
        }
    }
}
