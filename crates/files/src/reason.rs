//! Why a file could not be used, in words for people.

use std::io::{Error, ErrorKind};

/// Returns the reason of an error of the system in words that name no code and no library.
pub fn reason(error: &Error) -> String {
    // Errors with their own text come from our code, and that text names the cause.
    if error.raw_os_error().is_none() && error.get_ref().is_some() {
        return error.to_string();
    }
    let known = match error.kind() {
        ErrorKind::NotFound => "there is no such file or folder",
        ErrorKind::PermissionDenied => "this user has no right to it",
        ErrorKind::NotADirectory => "a part of the path is a file, not a folder",
        ErrorKind::IsADirectory => "it is a folder, not a file",
        ErrorKind::StorageFull => "the disk is full",
        ErrorKind::QuotaExceeded => "this user's share of the disk is used up",
        ErrorKind::ReadOnlyFilesystem => "the disk is read-only",
        ErrorKind::AlreadyExists => "it is there already",
        ErrorKind::InvalidData => "it is not text in UTF-8",
        ErrorKind::AddrInUse => "another program listens there",
        ErrorKind::AddrNotAvailable => "this machine has no such address",
        ErrorKind::ConnectionRefused => "nothing listens there",
        ErrorKind::TimedOut => "there was no answer in time",
        _ => "",
    };
    if !known.is_empty() {
        return known.to_owned();
    }
    let text = error.to_string();
    let words = text.split(" (os error").next().unwrap_or(&text);
    words.to_lowercase()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn no_code_of_the_system_is_shown() {
        for code in 1..=133 {
            let text = reason(&Error::from_raw_os_error(code));
            assert!(!text.contains("os error") && !text.is_empty(), "{text}");
        }
        assert_eq!(reason(&Error::from_raw_os_error(2)), "there is no such file or folder");
    }

    #[test]
    fn a_text_of_its_own_stays() {
        let refused = Error::new(ErrorKind::InvalidInput, "it has 9 bytes, more than 4");
        assert_eq!(reason(&refused), "it has 9 bytes, more than 4");
    }
}
