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
    /// Bytes of each of them that are its own.
    pub bytes: usize,
    /// What it reads and others may read, too.
    pub read: Option<Read>,
    /// What goes with it.
    pub with: T,
}

/// What several owners read: on each device it is there once.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Read {
    /// What it is.
    pub what: String,
    /// Its bytes.
    pub bytes: usize,
}

/// The devices that have most room, and who holds what they lack.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Room {
    /// Which, in ascending order.
    pub places: Vec<usize>,
    /// Bytes that each of them has at least.
    pub free: usize,
    /// Bytes of what is to be read that are on all of them already.
    pub there: usize,
    /// Who holds anything of them, and how many bytes of each device, with what they read.
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
        let here = || self.held.values().filter(|holding| holding.places.contains(&place));
        let own: usize = here().map(|holding| holding.bytes).sum();
        let read: BTreeMap<&str, usize> = here().filter_map(Holding::reads).collect();
        own + read.values().sum::<usize>()
    }

    /// Returns the room on so many devices, those that have most, for who reads `what`; nothing when there are not so many.
    pub fn room(&self, count: usize, what: Option<&str>) -> Option<Room> {
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
            there: what.map_or(0, |what| self.there(what, &places)),
            holders: holders.map(|holding| (holding.owner.clone(), holding.all())).collect(),
            places,
        })
    }

    /// Holds so many bytes of each of some devices for an owner, and what it reads; returns the number under which they are given back.
    ///
    /// # Errors
    /// When one of them has not so many.
    pub fn hold(
        &mut self,
        owner: &str,
        places: &[usize],
        bytes: usize,
        read: Option<Read>,
        with: T,
    ) -> Result<u64, Overbooked> {
        let free = self.free_on(places);
        let more = read.as_ref().map_or(0, |read| match self.there(&read.what, places) {
            0 => read.bytes,
            _ => 0,
        });
        let wanted = bytes.saturating_add(more);
        if wanted > free {
            return Err(Overbooked { wanted, free });
        }
        let number = self.next;
        self.next += 1;
        let holding = Holding {
            owner: owner.to_owned(),
            places: places.to_vec(),
            bytes,
            read,
            with,
        };
        self.held.insert(number, holding);
        Ok(number)
    }

    /// Gives back what is held under a number; returns it, where anything is.
    pub fn give_back(&mut self, number: u64) -> Option<Holding<T>> {
        self.held.remove(&number)
    }

    /// Gives back all that an owner holds.
    pub fn forget(&mut self, owner: &str) {
        self.held.retain(|_, holding| holding.owner != owner);
    }

    /// Lets something else go with what is held under a number; returns whether anything is.
    pub fn hand_over(&mut self, number: u64, with: T) -> bool {
        let holding = self.held.get_mut(&number);
        holding.map(|holding| holding.with = with).is_some()
    }

    /// Returns whether nothing is held at all.
    pub fn is_free(&self) -> bool {
        self.held.is_empty()
    }

    /// Returns whether anything is held under a number.
    pub fn is_held(&self, number: u64) -> bool {
        self.held.contains_key(&number)
    }

    /// Returns everything that is held, in the order in which it was taken.
    pub fn holdings(&self) -> impl Iterator<Item = &Holding<T>> {
        self.held.values()
    }

    /// Returns the bytes of something that is read on all of some devices.
    fn there(&self, what: &str, places: &[usize]) -> usize {
        let readers = |place: &usize| {
            let mut here = self.held.values().filter(|holding| holding.places.contains(place));
            here.find_map(|holding| holding.reads().filter(|(read, _)| *read == what))
        };
        let bytes = places.iter().map(|place| readers(place).map_or(0, |(_, bytes)| bytes));
        bytes.min().unwrap_or(0)
    }

    /// Returns the bytes that the fullest of some devices has.
    fn free_on(&self, places: &[usize]) -> usize {
        let fullest = places.iter().map(|place| self.taken_of(*place)).max();
        self.memory.saturating_sub(fullest.unwrap_or(0))
    }
}

impl<T> Holding<T> {
    /// Returns its bytes with those that it reads.
    pub fn all(&self) -> usize {
        self.bytes + self.read.as_ref().map_or(0, |read| read.bytes)
    }

    fn reads(&self) -> Option<(&str, usize)> {
        self.read.as_ref().map(|read| (read.what.as_str(), read.bytes))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn the_emptiest_devices_are_given_and_who_holds_the_others_is_told() {
        let mut ledger = Ledger::new(3, 100);
        let room = ledger.room(2, None).unwrap();
        assert_eq!((&room.places, room.free, room.holders.len()), (&vec![0, 1], 100, 0));
        let first = ledger.hold("a", &room.places, 60, None, ()).unwrap();
        let room = ledger.room(2, None).unwrap();
        assert_eq!((&room.places, room.free), (&vec![0, 2], 40));
        assert_eq!(room.holders, [("a".to_owned(), 60)]);
        let refused = Overbooked { wanted: 41, free: 40 };
        assert_eq!(ledger.hold("b", &room.places, 41, None, ()), Err(refused));
        ledger.hold("b", &room.places, 40, None, ()).unwrap();
        assert_eq!(
            (ledger.taken_of(0), ledger.taken_of(1), ledger.taken_of(2)),
            (100, 60, 40)
        );
        assert!(ledger.is_held(first));
        ledger.give_back(first).unwrap();
        assert!(ledger.give_back(first).is_none() && !ledger.is_held(first));
        assert_eq!(ledger.room(3, None).unwrap().free, 60);
        assert_eq!(ledger.room(4, None), None);
    }

    #[test]
    fn what_several_read_is_there_once_on_each_device() {
        let mut ledger = Ledger::new(2, 100);
        let read = || {
            Some(Read {
                what: "build".into(),
                bytes: 50,
            })
        };
        let first = ledger.hold("a", &[0], 20, read(), ()).unwrap();
        assert_eq!(ledger.taken_of(0), 70);
        let room = ledger.room(1, Some("build")).unwrap();
        assert_eq!((room.places, room.there), (vec![1], 0));
        let second = ledger.hold("b", &[0], 30, read(), ()).unwrap();
        assert_eq!((ledger.taken_of(0), ledger.taken_of(1)), (100, 0));
        assert_eq!(ledger.there("build", &[0]), 50);
        assert_eq!(ledger.there("build", &[0, 1]), 0);
        // It goes with its last reader.
        ledger.give_back(first);
        assert_eq!(ledger.taken_of(0), 80);
        let other = Some(Read {
            what: "other".into(),
            bytes: 21,
        });
        assert_eq!(
            ledger.hold("c", &[0], 0, other, ()),
            Err(Overbooked { wanted: 21, free: 20 })
        );
        ledger.give_back(second);
        assert_eq!(ledger.taken_of(0), 0);
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(3_000))]

        /// Whatever comes and goes, no device is overbooked, a refusal is right, and nothing is left when all have gone.
        #[test]
        fn nothing_is_overbooked_and_nothing_leaks(
            count in 1usize..5,
            memory in 0usize..200,
            acts in prop::collection::vec((0u8..4, 1usize..6, 0usize..150, 0usize..6), 0..60),
        ) {
            // What there is to be read, and its bytes; others read nothing.
            const READ: [(&str, usize); 3] = [("small", 7), ("middle", 40), ("large", 90)];
            type Model = Vec<(u64, Vec<usize>, usize, Option<usize>)>;
            let mut ledger = Ledger::new(count, memory);
            let mut model: Model = Vec::new();
            let taken = |model: &Model, place: usize| -> usize {
                let here = || model.iter().filter(|(_, places, ..)| places.contains(&place));
                let own: usize = here().map(|(_, _, bytes, _)| bytes).sum();
                let is_read = |what: &usize| here().any(|(.., read)| *read == Some(*what));
                own + (0..READ.len()).filter(is_read).map(|what| READ[what].1).sum::<usize>()
            };
            for (act, wide, bytes, what) in acts {
                let what = Some(what).filter(|what| *what < READ.len());
                if act == 0 {
                    if !model.is_empty() {
                        let (number, ..) = model.swap_remove(bytes % model.len());
                        prop_assert!(ledger.give_back(number).is_some());
                    }
                } else if let Some(room) = ledger.room(wide, what.map(|what| READ[what].0)) {
                    let lacks = room.places.iter().map(|place| taken(&model, *place)).max().unwrap();
                    prop_assert_eq!(room.free, memory - lacks);
                    // Nobody else would have more room.
                    let mut emptiest: Vec<usize> = (0..count).map(|place| taken(&model, place)).collect();
                    emptiest.sort_unstable();
                    prop_assert_eq!(lacks, emptiest[wide - 1]);
                    let read = what.map(|what| Read { what: READ[what].0.into(), bytes: READ[what].1 });
                    let wanted = bytes + read.as_ref().map_or(0, |read| read.bytes - room.there);
                    match ledger.hold("one", &room.places, bytes, read, ()) {
                        Ok(number) => {
                            prop_assert!(wanted <= room.free);
                            model.push((number, room.places, bytes, what));
                        }
                        Err(refused) => prop_assert_eq!(refused, Overbooked { wanted, free: room.free }),
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
            prop_assert_eq!(ledger.room(count, None).unwrap().free, memory);
        }
    }
}
