//! What an endpoint may be called.

/// Longest name of an endpoint.
const LONGEST_NAME: usize = 100;

/// Words that stand behind an endpoint's name in addresses. A name that ends in one could not be addressed.
const RESERVED: [&str; 8] = ["costs", "history", "log", "park", "renew", "start", "steps", "stop"];

/// Returns whether a name ends in a word that stands behind names in addresses.
pub fn is_reserved(name: &str) -> bool {
    let end = name.rsplit_once('/').map(|(_, end)| end);
    end.is_some_and(|end| RESERVED.contains(&end))
}

/// Checks an endpoint's name: it stands in addresses, logs and metrics.
///
/// # Errors
/// What is wrong, and what works.
pub fn check_name(name: &str) -> Result<(), String> {
    let plain = |byte: u8| byte.is_ascii_alphanumeric() || b"-_.@/".contains(&byte);
    let is_segment = |part: &str| !part.is_empty() && part != "." && part != "..";
    let is_plain = name.len() <= LONGEST_NAME && name.bytes().all(plain) && name.split('/').all(is_segment);
    if is_plain && !is_reserved(name) {
        return Ok(());
    }
    if is_plain {
        return Err(format!(
            "`{name}` is not an endpoint name: behind a slash, {} have a meaning of their own; choose another last word",
            RESERVED.join(", ")
        ));
    }
    let shown: String = name.chars().take(LONGEST_NAME).collect();
    Err(format!(
        "`{}` is not an endpoint name; use up to {LONGEST_NAME} letters, digits and - _ . @ /",
        shown.escape_debug()
    ))
}

#[cfg(test)]
mod tests {
    use super::check_name;

    #[test]
    fn names_fit_into_addresses_logs_and_metrics() {
        for good in ["pierdesk", "ferries/pierdesk@2", "a-b_c.d", "log", "stop/a"] {
            assert!(check_name(good).is_ok(), "{good}");
        }
        for wrong in [
            "",
            "a b",
            "a\u{1b}[2J",
            "a\nb",
            "../a",
            "a//b",
            "/",
            "é",
            "team/log",
            "a/stop",
            &"x".repeat(101),
        ] {
            assert!(check_name(wrong).is_err(), "{wrong}");
        }
    }
}
