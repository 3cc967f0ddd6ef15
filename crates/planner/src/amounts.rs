//! Sizes and counts, written for people.

use bytesize::ByteSize;

/// Returns a number with commas between groups of three digits.
pub fn grouped(number: usize) -> String {
    let digits = number.to_string();
    let mut out = String::new();
    for (index, digit) in digits.chars().enumerate() {
        if index > 0 && (digits.len() - index).is_multiple_of(3) {
            out.push(',');
        }
        out.push(digit);
    }
    out
}

/// Returns a size in binary units.
pub fn bytes(count: usize) -> String {
    ByteSize::b(count as u64).display().iec().to_string()
}

/// Returns a count of things, such as `1 core` or `2 cores`.
pub fn count_of(count: usize, thing: &str) -> String {
    let many = if count == 1 { "" } else { "s" };
    format!("{} {thing}{many}", grouped(count))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn amounts_are_written_for_people() {
        assert_eq!([0, 999, 1000, 1234567].map(grouped), ["0", "999", "1,000", "1,234,567"]);
        assert_eq!(
            [1, 2000].map(|count| count_of(count, "core")),
            ["1 core", "2,000 cores"]
        );
        assert_eq!([17, 1536, 3 << 30].map(bytes), ["17 B", "1.5 KiB", "3.0 GiB"]);
    }
}
