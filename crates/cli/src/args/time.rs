//! Durations on the command line.

use std::time::Duration;

/// Reads a duration such as `30s`, `5m` or `2h`; a number without a unit is seconds.
pub fn duration(text: &str) -> Result<Duration, String> {
    let text = text.trim();
    if let Ok(seconds) = text.parse::<f64>() {
        return Duration::try_from_secs_f64(seconds).map_err(|_| wrong(text));
    }
    humantime::parse_duration(text).map_err(|_| wrong(text))
}

fn wrong(text: &str) -> String {
    format!("`{text}` is no duration; write 30s, 5m, 2h or 7d")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_number_without_a_unit_is_seconds() {
        assert_eq!(duration("5"), Ok(Duration::from_secs(5)));
        assert_eq!(duration("0.5"), Ok(Duration::from_millis(500)));
        assert_eq!(duration("2h"), Ok(Duration::from_secs(7200)));
        for wrong in ["", "soon", "-1", "nan", "inf", "5 parsecs", "1e300"] {
            assert!(duration(wrong).unwrap_err().contains("30s, 5m, 2h"), "{wrong}");
        }
    }
}
