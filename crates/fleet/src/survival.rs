//! Whether a request that has lost its worker goes on elsewhere.

/// Workers that may die in a row with a request in the batch and no token of it.
const MOST_DEATHS: u32 = 3;

/// What a request has been through.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Survival {
    /// Workers in a row that died with it in the batch before it had a token of them.
    suspected: u32,
    in_batch: bool,
    has_token: bool,
}

impl Survival {
    /// Notes that it has joined the batch.
    pub fn admitted(&mut self) {
        self.in_batch = true;
    }

    /// Notes a token.
    pub fn token(&mut self) {
        self.has_token = true;
    }

    /// Notes that its worker is gone; returns whether it goes on elsewhere. Who was not in the batch cannot be what its worker died of, and
    /// who has a token has shown that one can live with it.
    pub fn lost(&mut self) -> bool {
        if self.has_token {
            self.suspected = 0;
        } else if self.in_batch {
            self.suspected += 1;
        }
        (self.in_batch, self.has_token) = (false, false);
        self.suspected < MOST_DEATHS
    }

    /// Notes that it leaves a worker that somebody ends, which says nothing of the request.
    pub fn left(&mut self) {
        (self.in_batch, self.has_token) = (false, false);
    }

    /// Returns whether it runs alone from now on, so that it can harm nobody else and it shows whether it is what workers die of.
    pub fn is_suspect(self) -> bool {
        self.suspected + 1 >= MOST_DEATHS
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn three_workers_in_a_row_may_not_die_of_one_request() {
        let mut request = Survival::default();
        let mut lost = |is_admitted: bool, has_token: bool| {
            if is_admitted {
                request.admitted();
            }
            if has_token {
                request.token();
            }
            request.lost()
        };
        assert!(lost(true, false) && lost(true, false), "twice may be chance");
        assert!(lost(false, false), "it only waited");
        assert!(lost(true, true), "it lived");
        assert!(lost(true, false) && lost(true, false));
        assert!(!lost(true, false));
    }

    #[test]
    fn workers_that_somebody_ended_are_not_held_against_a_request() {
        let mut request = Survival::default();
        for _ in 0..10 {
            request.admitted();
            request.left();
        }
        assert!(!request.is_suspect());
        assert!(request.lost(), "it was in no batch");
    }
}
