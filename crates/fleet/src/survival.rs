//! The decision to hand a request to another worker after its worker has ended.

/// Workers that may die in a row with a request and without a token of it.
const MOST_EXITS: u32 = 3;

/// The workers that a request has lost.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Survival {
    /// Workers in a row that died with it before it had a token of them.
    suspected: u32,
    has_token: bool,
}

impl Survival {
    /// Notes a token.
    pub fn token(&mut self) {
        self.has_token = true;
    }

    /// Notes the end of its worker; returns whether another worker gets the request. A request with a token has shown that workers survive it. One
    /// that only waited there runs [alone](Self::is_suspect) before it is given up, which shows that it is harmless.
    pub fn lost(&mut self) -> bool {
        if std::mem::take(&mut self.has_token) {
            self.suspected = 0;
        } else {
            self.suspected += 1;
        }
        self.suspected < MOST_EXITS
    }

    /// Notes that it leaves a worker that is drained, which tells nothing about the request.
    pub fn left(&mut self) {
        self.has_token = false;
    }

    /// Returns whether it runs alone from now on: it cannot harm others, and the next death shows that it is the cause.
    pub fn is_suspect(self) -> bool {
        self.suspected + 1 >= MOST_EXITS
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn three_workers_in_a_row_may_not_die_of_one_request() {
        let mut request = Survival::default();
        let mut lost = |has_token: bool| {
            if has_token {
                request.token();
            }
            (request.lost(), request.is_suspect())
        };
        assert_eq!(lost(false), (true, false));
        assert_eq!(lost(false), (true, true), "twice may be chance");
        assert_eq!(lost(true), (true, false), "the worker lived with it");
        assert_eq!(lost(false), (true, false));
        assert_eq!(lost(false), (true, true));
        assert!(!lost(false).0);
    }

    #[test]
    fn workers_that_somebody_ended_are_not_held_against_a_request() {
        let mut request = Survival::default();
        for _ in 0..10 {
            request.left();
        }
        assert!(!request.is_suspect());
        assert!(request.lost());
    }
}
