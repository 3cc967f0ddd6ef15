//! Who holds how much of the processor's cores.
//!
//! Whoever names a number of cores holds just that. The others share what is left: the first of them get whole cores as long as there are
//! some, and then all of them have equal parts, of which nobody gets more than it has threads (max-min fairness: "Data Networks", Bertsekas
//! and Gallager, 1992). Of what nobody has named, half at most is left to others than replicas, which serve HTTP.

use crate::core_share::CoreShare;
use std::collections::BTreeMap;
use std::fmt;

/// What is held of a processor's cores. An endpoint whose release is being changed holds the larger of both.
#[derive(Clone, Debug)]
pub struct CoreLedger {
    all: CoreShare,
    /// What is left to others besides replicas is not among these.
    usual: CoreShare,
    held: BTreeMap<u64, Holding>,
    next: u64,
}

#[derive(Clone, Debug)]
struct Holding {
    owner: String,
    cores: Held,
}

#[derive(Clone, Copy, Debug)]
enum Held {
    Named(CoreShare),
    /// A part of what nobody has named, for so many threads.
    Shared(usize),
}

/// A replica's request for cores.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum CoreRequest {
    /// Just so much.
    Named(CoreShare),
    /// Free cores.
    Free {
        /// Threads that it can use at least.
        least: usize,
        /// And at most.
        most: usize,
    },
}

/// What a replica got.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct CoreGrant {
    /// Under which it is given back.
    pub number: u64,
    /// Threads that it computes with.
    pub threads: usize,
}

/// There are not so many cores left.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct NoCores {
    /// What is wanted.
    pub wanted: CoreShare,
    /// What is free.
    pub free: CoreShare,
    /// What there is.
    pub all: CoreShare,
    /// Who holds the others.
    pub holders: Vec<(String, CoreShare)>,
}

impl std::error::Error for NoCores {}

impl fmt::Display for NoCores {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let NoCores {
            wanted,
            free,
            all,
            holders,
        } = self;
        write!(f, "{wanted} of {all} cores are wanted, and {free} can be had")?;
        for (index, (owner, share)) in holders.iter().enumerate() {
            let before = if index == 0 { ": " } else { ", " };
            write!(f, "{before}`{owner}` holds {share}")?;
        }
        Ok(())
    }
}

/// The sum of the owners' holdings.
#[derive(Default)]
struct Holdings<'a> {
    named: BTreeMap<&'a str, CoreShare>,
    /// The threads of those that share the others.
    shared: BTreeMap<&'a str, usize>,
}

impl CoreLedger {
    /// Returns the ledger of so many cores, of which those who name none leave all but `usual` to others unless they have more threads.
    pub fn new(all: usize, usual: usize) -> CoreLedger {
        CoreLedger {
            all: CoreShare::whole(all),
            usual: CoreShare::whole(usual),
            held: BTreeMap::new(),
            next: 0,
        }
    }

    /// Takes cores for an owner.
    ///
    /// # Errors
    /// When there are not so many, or too few would be left for the others.
    pub fn take(&mut self, owner: &str, request: CoreRequest) -> Result<CoreGrant, NoCores> {
        let others = self.holdings(Some(owner));
        let (cores, threads) = match request {
            CoreRequest::Named(wanted) => {
                // Each of those who share needs twice the least: they have half of the pool for sure.
                let kept = (0..2 * others.shared.len()).map(|_| CoreShare::LEAST);
                let free = self.all.without(others.named()).without(together(kept));
                if wanted > free {
                    return Err(self.refusal(wanted, free, &others));
                }
                (Held::Named(wanted), wanted.whole_cores().max(1))
            }
            CoreRequest::Free { least, most } => {
                let (least, most) = (least.max(1), most.max(least).max(1));
                let pool = self.pool(&others, most);
                let taken = self.level(&others);
                let taken = others
                    .shared
                    .values()
                    .map(|threads| taken.min(CoreShare::whole(*threads)));
                let whole = pool.without(together(taken)).whole_cores();
                let equal = pool.part(others.shared.len() + 1);
                if equal < CoreShare::LEAST {
                    return Err(self.refusal(CoreShare::LEAST, equal, &others));
                }
                let threads = if whole >= least { whole } else { equal.whole_cores() };
                let threads = threads.clamp(least, most);
                (Held::Shared(threads), threads)
            }
        };
        let number = self.next;
        self.next += 1;
        let owner = owner.to_owned();
        self.held.insert(number, Holding { owner, cores });
        Ok(CoreGrant { number, threads })
    }

    /// Gives back what is held under a number.
    pub fn give_back(&mut self, number: u64) {
        self.held.remove(&number);
    }

    /// Gives back all that an owner holds.
    pub fn forget(&mut self, owner: &str) {
        self.held.retain(|_, holding| holding.owner != owner);
    }

    /// Returns the share of an owner, by number; empty for unknown numbers.
    pub fn share(&self, number: u64) -> CoreShare {
        let Some(holding) = self.held.get(&number) else {
            return CoreShare::default();
        };
        let shares = self.shares();
        shares.get(holding.owner.as_str()).copied().unwrap_or_default()
    }

    /// Returns what each owner holds now.
    pub fn shares(&self) -> BTreeMap<&str, CoreShare> {
        let holdings = self.holdings(None);
        let level = self.level(&holdings);
        let shared = holdings.shared.iter();
        let mut shares: BTreeMap<&str, CoreShare> = shared
            .map(|(owner, threads)| (*owner, level.min(CoreShare::whole(*threads))))
            .collect();
        shares.extend(holdings.named);
        shares
    }

    /// Returns what all owners but one hold.
    fn holdings(&self, without: Option<&str>) -> Holdings<'_> {
        let mut holdings = Holdings::default();
        for Holding { owner, cores } in self.held.values().filter(|held| Some(held.owner.as_str()) != without) {
            match cores {
                Held::Named(share) => {
                    let named = holdings.named.entry(owner).or_default();
                    *named = (*named).max(*share);
                }
                Held::Shared(threads) => {
                    let shared = holdings.shared.entry(owner).or_default();
                    *shared = (*shared).max(*threads);
                }
            }
        }
        holdings.shared.retain(|owner, _| !holdings.named.contains_key(owner));
        holdings
    }

    /// Returns what those share who name no number, one of whom has so many threads.
    fn pool(&self, holdings: &Holdings<'_>, threads: usize) -> CoreShare {
        let most = holdings.shared.values().copied().max().unwrap_or(0).max(threads);
        let usual = self.usual.max(CoreShare::whole(most)).min(self.all);
        let unnamed = self.all.without(holdings.named());
        usual.without(holdings.named()).max(unnamed.part(2))
    }

    /// Returns what those have at most who share: as much as leaves nothing that another one could use.
    fn level(&self, holdings: &Holdings<'_>) -> CoreShare {
        let mut left = self.pool(holdings, 0);
        let mut threads: Vec<usize> = holdings.shared.values().copied().collect();
        threads.sort_unstable();
        let mut level = CoreShare::default();
        for (index, threads) in threads.iter().enumerate() {
            level = left.part(holdings.shared.len() - index);
            let all_of_them = CoreShare::whole(*threads);
            if level < all_of_them {
                break;
            }
            left = left.without(all_of_them);
        }
        level
    }

    fn refusal(&self, wanted: CoreShare, free: CoreShare, others: &Holdings<'_>) -> NoCores {
        let holders = self.shares().into_iter();
        let holders =
            holders.filter(|(owner, _)| others.named.contains_key(owner) || others.shared.contains_key(owner));
        NoCores {
            wanted,
            free,
            all: self.all,
            holders: holders.map(|(owner, share)| (owner.to_owned(), share)).collect(),
        }
    }
}

impl Holdings<'_> {
    fn named(&self) -> CoreShare {
        together(self.named.values().copied())
    }
}

fn together(shares: impl Iterator<Item = CoreShare>) -> CoreShare {
    shares.fold(CoreShare::default(), CoreShare::and)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn named(cores: f64) -> CoreRequest {
        CoreRequest::Named(CoreShare::of(cores).unwrap())
    }

    fn free(most: usize) -> CoreRequest {
        CoreRequest::Free { least: 1, most }
    }

    #[test]
    fn the_first_gets_the_free_whole_cores_and_then_all_have_equal_parts() {
        let mut ledger = CoreLedger::new(8, 7);
        let of = |ledger: &CoreLedger| -> Vec<f64> { ledger.shares().values().map(|share| share.cores()).collect() };
        let first = ledger.take("a", free(7)).unwrap();
        assert_eq!((first.threads, of(&ledger)), (7, vec![7.0]));
        let second = ledger.take("b", free(7)).unwrap();
        assert_eq!((second.threads, of(&ledger)), (3, vec![4.0, 3.0]));
        let third = ledger.take("c", named(2.0)).unwrap();
        assert_eq!((third.threads, of(&ledger)), (2, vec![2.5, 2.5, 2.0]));
        assert_eq!(
            ledger.share(first.number),
            CoreShare::of(0.5).unwrap().and(CoreShare::whole(2))
        );
        ledger.give_back(second.number);
        assert_eq!(of(&ledger), [5.0, 2.0]);
        ledger.give_back(first.number);
        ledger.give_back(third.number);
        assert!(ledger.shares().is_empty());
        assert_eq!(ledger.share(first.number), CoreShare::default());
    }

    #[test]
    fn on_two_cores_the_second_one_serves_http_unless_somebody_names_it() {
        let mut ledger = CoreLedger::new(2, 1);
        let of = |ledger: &CoreLedger| -> Vec<f64> { ledger.shares().values().map(|share| share.cores()).collect() };
        assert_eq!(ledger.take("a", free(1)).unwrap().threads, 1);
        assert_eq!(ledger.take("b", free(1)).unwrap().threads, 1);
        assert_eq!(of(&ledger), [0.5, 0.5]);
        let refused = ledger.take("c", named(2.0)).unwrap_err();
        assert_eq!(
            refused.to_string(),
            "2 of 2 cores are wanted, and 1.8 can be had: `a` holds 0.5, `b` holds 0.5"
        );
        // Shards want one each.
        let two = CoreRequest::Free { least: 2, most: 2 };
        assert_eq!(ledger.take("c", two).unwrap().threads, 2);
        assert_eq!(of(&ledger), [0.666, 0.666, 0.666]);
    }

    #[test]
    fn a_release_beside_the_one_before_takes_no_more_than_the_larger() {
        let mut ledger = CoreLedger::new(2, 1);
        let before = ledger.take("a", named(2.0)).unwrap();
        let after = ledger.take("a", named(1.0)).unwrap();
        assert_eq!(ledger.share(after.number), CoreShare::whole(2));
        ledger.give_back(before.number);
        assert_eq!(ledger.share(after.number), CoreShare::whole(1));
        assert!(ledger.take("b", named(1.0)).is_ok());
        let refused = ledger.take("c", free(1)).unwrap_err();
        assert_eq!(refused.free, CoreShare::default());
        assert_eq!(refused.holders.len(), 2);
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(3_000))]

        /// Whatever comes and goes, nothing is overbooked, who names a number has it, and nothing is left when all have gone.
        #[test]
        fn cores_add_up(
            all in 1usize..9,
            acts in prop::collection::vec((0u8..5, 0usize..6, 1usize..10, 1u32..20), 0..60),
        ) {
            let mut ledger = CoreLedger::new(all, all.saturating_sub(1).max(1));
            let mut held: Vec<(u64, String, CoreRequest)> = Vec::new();
            for (act, owner, count, twentieths) in acts {
                let owner = format!("endpoint-{owner}");
                let request = match act {
                    0 => {
                        if !held.is_empty() {
                            let (number, ..) = held.swap_remove(count % held.len());
                            ledger.give_back(number);
                        }
                        continue;
                    }
                    1 => CoreRequest::Named(CoreShare::of(f64::from(twentieths) / 20.0).unwrap()),
                    2 => CoreRequest::Named(CoreShare::whole(count)),
                    _ => CoreRequest::Free { least: 1, most: count },
                };
                match ledger.take(&owner, request) {
                    Ok(grant) => {
                        prop_assert!(grant.threads >= 1);
                        if let CoreRequest::Free { most, .. } = request {
                            prop_assert!(grant.threads <= most);
                        }
                        held.push((grant.number, owner, request));
                    }
                    Err(refused) => prop_assert!(refused.free < refused.wanted),
                }
                let sum = ledger.shares().values().map(|share| share.cores()).sum::<f64>();
                prop_assert!(sum <= all as f64 + 1e-9, "{sum} of {all}");
                for (number, owner, request) in &held {
                    let share = ledger.share(*number);
                    let shares = ledger.shares();
                    prop_assert_eq!(Some(&share), shares.get(owner.as_str()));
                    if let CoreRequest::Named(named) = request {
                        prop_assert!(share >= *named);
                    }
                }
            }
            for (number, ..) in held {
                ledger.give_back(number);
            }
            prop_assert!(ledger.shares().is_empty());
        }
    }
}
