//! Medians, and how far they can be believed.

/// Returns the median.
///
/// # Panics
/// When there are no values.
pub fn median(values: &[f64]) -> f64 {
    let mut sorted = values.to_vec();
    sorted.sort_by(f64::total_cmp);
    let half = sorted.len() / 2;
    match sorted.len() % 2 {
        0 => (sorted[half - 1] + sorted[half]) / 2.0,
        _ => sorted[half],
    }
}

/// Returns how many times as fast as another a subject was in each round.
pub fn times_as_fast(seconds: &[f64], others: &[f64]) -> Vec<f64> {
    seconds
        .iter()
        .zip(others)
        .map(|(seconds, other)| other / seconds)
        .collect()
}

/// Returns the 90 % interval of the median, by resampling ("Bootstrap Methods: Another Look at the Jackknife", Efron, 1979).
pub fn interval(values: &[f64]) -> (f64, f64) {
    const SAMPLES: usize = 4_000;
    let mut state = 7u64;
    let mut draw = || {
        state = state
            .wrapping_mul(6_364_136_223_846_793_005)
            .wrapping_add(1_442_695_040_888_963_407);
        values[(state >> 33) as usize % values.len()]
    };
    let sample = |_| median(&values.iter().map(|_| draw()).collect::<Vec<f64>>());
    let mut medians: Vec<f64> = (0..SAMPLES).map(sample).collect();
    medians.sort_by(f64::total_cmp);
    (medians[SAMPLES / 20], medians[SAMPLES - 1 - SAMPLES / 20])
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_interval_holds_the_median_and_is_narrow_for_values_that_agree() {
        let values = [1.0, 1.01, 0.99, 1.02, 0.98, 1.0, 3.0];
        let (low, high) = interval(&values);
        assert_eq!(median(&values), 1.0);
        assert!(
            (0.97..=1.0).contains(&low) && (1.0..=1.03).contains(&high),
            "{low} {high}"
        );
        assert_eq!(median(&[1.0, 2.0]), 1.5);
    }
}
