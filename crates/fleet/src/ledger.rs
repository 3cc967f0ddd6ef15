//! Who holds how much of which device.

use std::collections::BTreeMap;

/// What is held of several devices of a kind, each with the same memory. `T` is what goes with a holding.
#[derive(Clone, Debug)]
pub struct Ledger<T> {
    /// Bytes of each device.
    memory: usize,
    count: usize,
    held: BTreeMap<u64, Holding<T>>,
    next: u64,
}

/// What one owner holds.
#[derive(Clone, Debug)]
pub struct Holding<T> {
    /// Who.
    pub owner: String,
    /// Of which devices, by number from 0 on, in ascending order.
    pub places: Vec<usize>,
    /// Bytes of each of them.
    pub bytes: usize,
    /// What goes with it.
    pub with: T,
}

/// The devices that have most room, and who holds what they lack.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Room {
    /// Which, in ascending order.
    pub places: Vec<usize>,
    /// Bytes that each of them has at least.
    pub free: usize,
    /// Who holds anything of them, and how many bytes of each device.
    pub holders: Vec<(String, usize)>,
}

/// More is wanted than there is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{wanted} bytes are wanted where {free} are free")]
pub struct Overbooked {
    /// Bytes that are wanted.
    pub wanted: usize,
    /// Bytes that are free.
    pub free: usize,
}

impl<T> Ledger<T> {
    /// Returns the ledger of so many devices with so many bytes each, of which nobody holds anything.
    pub fn new(count: usize, memory: usize) -> Ledger<T> {
        Ledger {
            memory,
            count,
            held: BTreeMap::new(),
            next: 0,
        }
    }

    /// Returns the bytes that are held of a device.
    pub fn taken_of(&self, place: usize) -> usize {
        let here = self.held.values().filter(|holding| holding.places.contains(&place));
        here.map(|holding| holding.bytes).sum()
    }

    /// Returns the room on so many devices, those that have most; nothing when there are not so many.
    pub fn room(&self, count: usize) -> Option<Room> {
        if count > self.count {
            return None;
        }
        let mut places: Vec<usize> = (0..self.count).collect();
        places.sort_by_key(|place| self.taken_of(*place));
        places.truncate(count);
        places.sort_unstable();
        let here = |holding: &&Holding<T>| holding.places.iter().any(|place| places.contains(place));
        let holders = self.held.values().filter(here);
        Some(Room {
            free: self.free_on(&places),
            holders: holders.map(|holding| (holding.owner.clone(), holding.bytes)).collect(),
            places,
        })
    }

    /// Holds so many bytes of each of some devices for an owner; returns the number under which they are given back.
    ///
    /// # Errors
    /// When one of them has not so many.
    pub fn hold(&mut self, owner: &str, places: &[usize], bytes: usize, with: T) -> Result<u64, Overbooked> {
        let free = self.free_on(places);
        if bytes > free {
            return Err(Overbooked { wanted: bytes, free });
        }
        let number = self.next;
        self.next += 1;
        let holding = Holding {
            owner: owner.to_owned(),
            places: places.to_vec(),
            bytes,
            with,
        };
        self.held.insert(number, holding);
        Ok(number)
    }

    /// Gives back what is held under a number; returns it, where anything is.
    pub fn give_back(&mut self, number: u64) -> Option<Holding<T>> {
        self.held.remove(&number)
    }

    /// Returns everything that is held, in the order in which it was taken.
    pub fn holdings(&self) -> impl Iterator<Item = &Holding<T>> {
        self.held.values()
    }

    /// Returns the bytes that the fullest of some devices has.
    fn free_on(&self, places: &[usize]) -> usize {
        let fullest = places.iter().map(|place| self.taken_of(*place)).max();
        self.memory.saturating_sub(fullest.unwrap_or(0))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn the_emptiest_devices_are_given_and_who_holds_the_others_is_told() {
        let mut ledger = Ledger::new(3, 100);
        let room = ledger.room(2).unwrap();
        assert_eq!((&room.places, room.free, room.holders.len()), (&vec![0, 1], 100, 0));
        let first = ledger.hold("a", &room.places, 60, ()).unwrap();
        let room = ledger.room(2).unwrap();
        assert_eq!((&room.places, room.free), (&vec![0, 2], 40));
        assert_eq!(room.holders, [("a".to_owned(), 60)]);
        let refused = Overbooked { wanted: 41, free: 40 };
        assert_eq!(ledger.hold("b", &room.places, 41, ()), Err(refused));
        ledger.hold("b", &room.places, 40, ()).unwrap();
        assert_eq!(
            (ledger.taken_of(0), ledger.taken_of(1), ledger.taken_of(2)),
            (100, 60, 40)
        );
        ledger.give_back(first).unwrap();
        assert!(ledger.give_back(first).is_none());
        assert_eq!(ledger.room(3).unwrap().free, 60);
        assert_eq!(ledger.room(4), None);
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(10_000))]

        /// Whatever comes and goes, no device is overbooked, a refusal is right, and nothing is left when all have gone.
        #[test]
        fn nothing_is_overbooked_and_nothing_leaks(
            count in 1usize..5,
            memory in 0usize..200,
            acts in prop::collection::vec((0u8..4, 1usize..6, 0usize..150), 0..60),
        ) {
            let mut ledger = Ledger::new(count, memory);
            let mut model: Vec<(u64, Vec<usize>, usize)> = Vec::new();
            let taken = |model: &[(u64, Vec<usize>, usize)], place: usize| -> usize {
                let here = model.iter().filter(|(_, places, _)| places.contains(&place));
                here.map(|(_, _, bytes)| bytes).sum()
            };
            for (act, wide, bytes) in acts {
                if act == 0 {
                    if !model.is_empty() {
                        let (number, ..) = model.swap_remove(bytes % model.len());
                        prop_assert!(ledger.give_back(number).is_some());
                    }
                } else if let Some(room) = ledger.room(wide) {
                    let lacks = room.places.iter().map(|place| taken(&model, *place)).max().unwrap();
                    prop_assert_eq!(room.free, memory - lacks);
                    // Nobody else would have more room.
                    let mut emptiest: Vec<usize> = (0..count).map(|place| taken(&model, place)).collect();
                    emptiest.sort_unstable();
                    prop_assert_eq!(lacks, emptiest[wide - 1]);
                    match ledger.hold("one", &room.places, bytes, ()) {
                        Ok(number) => {
                            prop_assert!(bytes <= room.free);
                            model.push((number, room.places, bytes));
                        }
                        Err(refused) => prop_assert_eq!(refused, Overbooked { wanted: bytes, free: room.free }),
                    }
                } else {
                    prop_assert!(wide > count);
                }
                for place in 0..count {
                    prop_assert_eq!(ledger.taken_of(place), taken(&model, place));
                    prop_assert!(ledger.taken_of(place) <= memory);
                }
                prop_assert_eq!(ledger.holdings().count(), model.len());
            }
            for (number, ..) in model {
                ledger.give_back(number);
            }
            prop_assert_eq!(ledger.holdings().count(), 0);
            prop_assert_eq!(ledger.room(count).unwrap().free, memory);
        }
    }
}
