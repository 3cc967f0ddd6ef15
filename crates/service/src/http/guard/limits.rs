//! How often and how many at once: the limits of keys.

use crate::http::problem::Problem;
use governor::clock::{Clock, DefaultClock};
use governor::middleware::NoOpMiddleware;
use governor::state::{InMemoryState, NotKeyed};
use governor::{Quota, RateLimiter};
use std::collections::HashMap;
use std::num::NonZeroU32;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;
use vastrelay_store::KeyRecord;

/// The used part of the limits of keys.
#[derive(Clone, Default)]
pub struct KeyLimits {
    used: Arc<Mutex<HashMap<String, Used>>>,
}

#[derive(Default)]
struct Used {
    running: u32,
    rate: Option<Rate<DefaultClock>>,
}

/// A place among a key's calls, given back when it is dropped.
pub(crate) struct Permit {
    limits: KeyLimits,
    key: String,
}

impl KeyLimits {
    /// Takes a place for one call.
    ///
    /// # Errors
    /// 429 with the limit and when to come back.
    pub(crate) fn enter(&self, key: &KeyRecord) -> Result<Permit, Problem> {
        let mut all = self.used.lock().unwrap_or_else(PoisonError::into_inner);
        let used = all.entry(key.id.clone()).or_default();
        if let Some(most) = key.at_once.filter(|most| used.running >= *most) {
            return Err(Problem::too_many_at_once(&key.name, most));
        }
        if let Some(per_minute) = key.per_minute {
            let rate = used
                .rate
                .get_or_insert_with(|| Rate::new(per_minute, DefaultClock::default()));
            if let Err(wait) = rate.take() {
                return Err(Problem::too_many_a_minute(&key.name, per_minute, wait));
            }
        }
        used.running += 1;
        Ok(Permit {
            limits: self.clone(),
            key: key.id.clone(),
        })
    }
}

impl Drop for Permit {
    fn drop(&mut self) {
        let mut all = self.limits.used.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(used) = all.get_mut(&self.key) {
            used.running -= 1;
        }
    }
}

/// A rate of calls: up to a minute's worth at once, refilled evenly.
struct Rate<C: Clock> {
    limiter: RateLimiter<NotKeyed, InMemoryState, C, NoOpMiddleware<C::Instant>>,
    clock: C,
}

impl<C: Clock + Clone> Rate<C> {
    fn new(per_minute: u32, clock: C) -> Rate<C> {
        let quota = Quota::per_minute(NonZeroU32::new(per_minute).unwrap_or(NonZeroU32::MIN));
        Rate {
            limiter: RateLimiter::direct_with_clock(quota, clock.clone()),
            clock,
        }
    }

    /// Takes one, or says how long until there is one.
    fn take(&self) -> Result<(), Duration> {
        let taken = self.limiter.check();
        taken.map_err(|refused| refused.wait_time_from(self.clock.now()))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use governor::clock::FakeRelativeClock;
    use proptest::prelude::*;
    use vastrelay_store::Scope;

    fn key(per_minute: Option<u32>, at_once: Option<u32>) -> KeyRecord {
        KeyRecord {
            id: "k".into(),
            name: "desk".into(),
            hash: [0; 32],
            scope: Scope::Use,
            created_ms: 0,
            expires_ms: None,
            revoked_ms: None,
            used_ms: None,
            per_minute,
            at_once,
            weight: 1,
            endpoints: Vec::new(),
        }
    }

    #[test]
    fn a_place_is_given_back_when_the_call_ends() {
        let (limits, key) = (KeyLimits::default(), key(None, Some(2)));
        let first = limits.enter(&key).unwrap();
        let _second = limits.enter(&key).unwrap();
        assert!(limits.enter(&key).is_err());
        drop(first);
        assert!(limits.enter(&key).is_ok());
    }

    #[test]
    fn a_rate_is_that_of_its_key() {
        let (limits, key) = (KeyLimits::default(), key(Some(2), None));
        assert!(limits.enter(&key).is_ok() && limits.enter(&key).is_ok());
        let Err(refused) = limits.enter(&key) else {
            panic!("two calls a minute")
        };
        assert_eq!(refused.code(), "too_many_a_minute");
        let other = KeyRecord {
            id: "other".into(),
            ..key
        };
        assert!(limits.enter(&other).is_ok());
    }

    proptest! {
        /// Over any stretch of time no more pass than a minute's worth and what flowed in; and who waits as told, passes.
        #[test]
        fn the_rate_holds_over_any_history(per_minute in 1u32..200, gaps in prop::collection::vec(0u64..5_000, 1..200)) {
            let clock = FakeRelativeClock::default();
            let rate = Rate::new(per_minute, clock.clone());
            let (mut elapsed, mut passed) = (Duration::ZERO, 0u32);
            for gap in gaps {
                let mut wait = Duration::from_millis(gap);
                clock.advance(wait);
                elapsed += wait;
                if let Err(until) = rate.take() {
                    wait = until + Duration::from_millis(1);
                    clock.advance(wait);
                    elapsed += wait;
                    prop_assert!(rate.take().is_ok());
                }
                passed += 1;
                let most = f64::from(per_minute) * (1.0 + elapsed.as_secs_f64() / 60.0);
                prop_assert!(f64::from(passed) <= most + 1e-6);
            }
        }
    }
}
