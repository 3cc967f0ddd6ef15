//! Percentiles, and intervals by resampling.

use rand::rngs::StdRng;
use rand::{Rng, SeedableRng};
use vastrelay_wire::manage::Spread;

/// Returns how values spread, by nearest rank.
pub fn spread(mut values: Vec<f64>) -> Spread {
    values.sort_by(f64::total_cmp);
    let at = |share: f64| quantile(&values, share);
    Spread {
        count: values.len() as u64,
        p50: at(0.5),
        p90: at(0.9),
        p95: at(0.95),
        p99: at(0.99),
        max: at(1.0),
    }
}

/// Returns a quantile of sorted values by nearest rank; 0 when there are none.
pub fn quantile(sorted: &[f64], share: f64) -> f64 {
    let rank = (sorted.len() as f64 * share).ceil() as usize;
    sorted.get(rank.max(1) - 1).copied().unwrap_or(0.0)
}

/// Returns the mean and the standard deviation of values; zero for none, and for the deviation of one.
pub fn mean_and_deviation(values: Vec<f64>) -> (f64, f64) {
    let count = values.len() as f64;
    let mean = values.iter().sum::<f64>() / count.max(1.0);
    let squares: f64 = values.iter().map(|value| (value - mean).powi(2)).sum();
    (mean, (squares / (count - 1.0).max(1.0)).sqrt())
}

/// Draws of the resampling.
const RESAMPLES: usize = 1_000;

/// Returns the interval that holds the ratio of a figure of `b` to that of `a` in 95 of 100 resamplings ("Bootstrap
/// Methods: Another Look at the Jackknife", Efron, 1979). Whole groups are drawn, such as the gaps of one request, because
/// what is within a group is not independent. `None` when a side is empty or the figure of `a` is 0.
pub fn ratio_interval(a: &[Vec<f64>], b: &[Vec<f64>], figure: impl Fn(&mut [f64]) -> f64) -> Option<(f64, f64)> {
    if a.is_empty() || b.is_empty() {
        return None;
    }
    let mut random = StdRng::seed_from_u64(1979);
    let mut pool = Vec::new();
    let mut draw = |groups: &[Vec<f64>]| {
        pool.clear();
        for _ in 0..groups.len() {
            pool.extend_from_slice(&groups[random.random_range(0..groups.len())]);
        }
        figure(&mut pool)
    };
    let mut ratios: Vec<f64> = (0..RESAMPLES)
        .map(|_| (draw(a), draw(b)))
        .filter(|(a, _)| *a > 0.0)
        .map(|(a, b)| b / a)
        .collect();
    if ratios.len() < RESAMPLES / 2 {
        return None;
    }
    ratios.sort_by(f64::total_cmp);
    Some((quantile(&ratios, 0.025), quantile(&ratios, 0.975)))
}

/// Returns a function that takes a quantile of values in any order.
pub fn quantile_of(share: f64) -> impl Fn(&mut [f64]) -> f64 {
    move |values| {
        if values.is_empty() {
            return 0.0;
        }
        let rank = ((values.len() as f64 * share).ceil() as usize).max(1) - 1;
        *values.select_nth_unstable_by(rank, f64::total_cmp).1
    }
}

/// Returns the mean of values.
pub fn mean(values: &mut [f64]) -> f64 {
    values.iter().sum::<f64>() / values.len().max(1) as f64
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::{prop, prop_assert_eq, proptest};

    #[test]
    fn percentiles_are_values_that_occurred() {
        let spread = spread((1..=100).rev().map(f64::from).collect());
        assert_eq!(
            (spread.p50, spread.p90, spread.p95, spread.p99, spread.max),
            (50.0, 90.0, 95.0, 99.0, 100.0)
        );
        assert_eq!(super::spread(Vec::new()), Spread::default());
    }

    #[test]
    fn an_interval_holds_one_for_equals_and_not_for_different() {
        let groups = |scale: f64, seed| {
            let mut random = StdRng::seed_from_u64(seed);
            (0..300)
                .map(|_| vec![scale * (1.0 + random.random::<f64>())])
                .collect::<Vec<_>>()
        };
        let (low, high) = ratio_interval(&groups(1.0, 1), &groups(1.0, 2), quantile_of(0.5)).unwrap();
        assert!(low < 1.0 && 1.0 < high && high - low < 0.3, "{low} {high}");
        let (low, high) = ratio_interval(&groups(1.0, 1), &groups(1.5, 2), mean).unwrap();
        assert!(1.3 < low && high < 1.7, "{low} {high}");
        assert_eq!(ratio_interval(&[], &groups(1.0, 1), mean), None);
        assert_eq!(ratio_interval(&[vec![0.0]], &groups(1.0, 1), mean), None);
    }

    proptest! {
        #[test]
        fn selecting_finds_what_sorting_finds(mut values in prop::collection::vec(0.0..1e6, 1..200), share in 0.0..=1.0) {
            let selected = quantile_of(share)(&mut values.clone());
            values.sort_by(f64::total_cmp);
            prop_assert_eq!(selected, quantile(&values, share));
        }
    }
}
