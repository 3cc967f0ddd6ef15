//! The processor's cores, as far as replicas may use them.

/// The cores that replicas may use.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Cores {
    /// How many there are.
    pub most: usize,
    /// How many a replica gets unless somebody says otherwise.
    usual: usize,
}

impl Cores {
    /// Returns those of a machine: a replica gets all of them. HTTP is served between its steps, and before them where both want
    /// a core, as workers have a lower priority.
    pub fn of_machine(count: usize) -> Cores {
        Cores {
            most: count,
            usual: count,
        }
    }

    /// Returns a part of those of a machine, which leaves the others to HTTP.
    pub fn part(count: usize) -> Cores {
        Cores {
            most: count,
            usual: count,
        }
    }

    /// Returns how many a replica gets unless somebody says otherwise: one for each of its shards at least.
    pub fn usual(self, split: usize) -> usize {
        self.usual.max(split.min(self.most))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_replica_gets_all_cores() {
        let usual = |count, split| Cores::of_machine(count).usual(split);
        assert_eq!([usual(8, 1), usual(8, 8), usual(1, 1), usual(2, 4)], [8, 8, 1, 2]);
        assert_eq!(Cores::part(3).usual(1), 3);
    }
}
