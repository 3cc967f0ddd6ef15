//! How often and how many at once: the limits of keys.

use crate::http::problem::Problem;
use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};
use vastrelay_store::KeyRecord;

/// What keys have used of their limits.
#[derive(Clone, Default)]
pub struct KeyLimits {
    used: Arc<Mutex<HashMap<String, Used>>>,
}

#[derive(Default)]
struct Used {
    running: u32,
    bucket: Option<Bucket>,
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
    pub(crate) fn enter(&self, key: &KeyRecord, now: Instant) -> Result<Permit, Problem> {
        let mut all = self.used.lock().unwrap_or_else(PoisonError::into_inner);
        let used = all.entry(key.id.clone()).or_default();
        if let Some(most) = key.at_once.filter(|most| used.running >= *most) {
            return Err(Problem::too_many_at_once(&key.name, most));
        }
        if let Some(per_minute) = key.per_minute {
            let bucket = used.bucket.get_or_insert_with(|| Bucket::full(per_minute, now));
            if let Err(wait) = bucket.take(now) {
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

/// Holds up to a minute's worth of calls and is refilled evenly.
struct Bucket {
    per_minute: f64,
    left: f64,
    at: Instant,
}

impl Bucket {
    fn full(per_minute: u32, now: Instant) -> Bucket {
        Bucket {
            per_minute: per_minute.into(),
            left: per_minute.into(),
            at: now,
        }
    }

    /// Takes one, or says how long until there is one.
    fn take(&mut self, now: Instant) -> Result<(), Duration> {
        let refill = now.saturating_duration_since(self.at).as_secs_f64() * self.per_minute / 60.0;
        self.left = (self.left + refill).min(self.per_minute);
        // Callers on several threads may come with moments out of order; time that was counted is not counted again.
        self.at = self.at.max(now);
        if self.left >= 1.0 {
            self.left -= 1.0;
            return Ok(());
        }
        Err(Duration::from_secs_f64((1.0 - self.left) * 60.0 / self.per_minute))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
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
        let (limits, key, now) = (KeyLimits::default(), key(None, Some(2)), Instant::now());
        let first = limits.enter(&key, now).unwrap();
        let _second = limits.enter(&key, now).unwrap();
        assert!(limits.enter(&key, now).is_err());
        drop(first);
        assert!(limits.enter(&key, now).is_ok());
    }

    proptest! {
        /// Moments out of order give nobody more than the rate.
        #[test]
        fn the_rate_holds_when_moments_come_out_of_order(moments in prop::collection::vec(0u64..60_000, 1..300)) {
            let start = Instant::now();
            let mut bucket = Bucket::full(20, start);
            let passed = moments.iter().filter(|at| bucket.take(start + Duration::from_millis(**at)).is_ok()).count();
            prop_assert!(passed <= 40, "{passed} calls within a minute");
        }

        /// Over any stretch of time no more pass than a full bucket and what flowed in; and who waits as told, passes.
        #[test]
        fn the_rate_holds_over_any_history(per_minute in 1u32..200, gaps in prop::collection::vec(0u64..5_000, 1..200)) {
            let start = Instant::now();
            let mut bucket = Bucket::full(per_minute, start);
            let (mut now, mut passed) = (start, 0u32);
            for gap in gaps {
                now += Duration::from_millis(gap);
                match bucket.take(now) {
                    Ok(()) => passed += 1,
                    Err(wait) => {
                        now += wait + Duration::from_millis(1);
                        prop_assert!(bucket.take(now).is_ok());
                        passed += 1;
                    }
                }
                let most = f64::from(per_minute) * (1.0 + (now - start).as_secs_f64() / 60.0);
                prop_assert!(f64::from(passed) <= most + 1e-6);
            }
        }
    }
}
