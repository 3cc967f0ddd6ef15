//! Which worker of an earlier service goes on with a replica.

/// A worker that an earlier service has left.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Left {
    /// Whether it is what the replica is to be: the same release, run in the same way.
    pub is_wanted: bool,
    /// The number of its life.
    pub incarnation: u64,
}

/// Returns the place of the one that goes on: of those that are wanted, the one whose life began last. The others end.
pub fn heir(left: impl IntoIterator<Item = Left>) -> Option<usize> {
    let wanted = left.into_iter().enumerate().filter(|(_, left)| left.is_wanted);
    wanted.max_by_key(|(_, left)| left.incarnation).map(|(place, _)| place)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_latest_of_those_that_are_wanted_goes_on() {
        let left = |lives: &[(bool, u64)]| {
            heir(lives.iter().map(|(is_wanted, incarnation)| Left {
                is_wanted: *is_wanted,
                incarnation: *incarnation,
            }))
        };
        assert_eq!(left(&[(true, 3), (false, 9), (true, 7), (true, 5)]), Some(2));
        assert_eq!(left(&[(false, 1)]), None);
        assert_eq!(left(&[]), None);
    }
}
