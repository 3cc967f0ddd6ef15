//! The settings beside those of an endpoint: what else could be chosen.

use vastrelay_serving::{KvPrecision, Precision};

/// Returns half a number, itself and twice as much, as far as they lie between bounds.
pub(super) fn around(now: usize, least: usize, most: usize) -> Vec<usize> {
    let lies = |value: &usize| *value == now || (least..=most).contains(value);
    let mut all: Vec<usize> = [now / 2, now, now.saturating_mul(2)].into_iter().filter(lies).collect();
    all.dedup();
    all
}

/// Returns the precision of weights that there is and the others that are usual.
pub(super) fn weights_beside(now: Precision) -> Vec<Precision> {
    let words = ["as-stored", "bf16", "int8", "int4"];
    let usual: Vec<Precision> = words.iter().filter_map(|word| Precision::of(word, None).ok()).collect();
    let more = Some(now).filter(|now| !usual.contains(now));
    more.into_iter().chain(usual).collect()
}

/// Returns the usual precisions of keys and values.
pub(super) fn kvs() -> Vec<KvPrecision> {
    ["f32", "bf16", "int8"]
        .into_iter()
        .filter_map(KvPrecision::of)
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn choices_lie_around_what_is_within_what_can_be() {
        assert_eq!(around(16, 1, 4_096), [8, 16, 32]);
        assert_eq!(around(1, 1, 4_096), [1, 2]);
        assert_eq!(around(2_048, 1, 2_048), [1_024, 2_048]);
        assert_eq!(around(40, 32, 60), [40]);
        let int4 = Precision::of("int4", Some(128)).unwrap();
        assert_eq!(weights_beside(int4)[0], int4);
        assert_eq!(weights_beside(int4).len(), 5);
        assert_eq!(weights_beside(Precision::AsStored).len(), 4);
    }
}
