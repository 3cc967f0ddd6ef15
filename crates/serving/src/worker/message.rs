//! Messages as bytes: four for the length, then `postcard`.

use serde::Serialize;
use serde::de::DeserializeOwned;
use std::io::{self, Read};

/// Bytes before each message that say how long it is.
pub const LENGTH: usize = 4;

/// Adds a message to `bytes`.
///
/// # Panics
/// When it has 4 GiB or more.
pub fn encode(message: &impl Serialize, bytes: &mut Vec<u8>) {
    let start = bytes.len();
    bytes.extend([0; LENGTH]);
    let all = postcard::to_extend(message, std::mem::take(bytes));
    *bytes = all.expect("what is sent can be written down");
    let length = u32::try_from(bytes.len() - start - LENGTH).expect("a message is shorter than 4 GiB");
    bytes[start..start + LENGTH].copy_from_slice(&length.to_le_bytes());
}

/// Reads a message of at most so many bytes, whose bytes are left in `buffer`.
///
/// # Errors
/// When there is none, it is longer, or it is not what was expected.
pub fn read<T: DeserializeOwned>(input: &mut impl Read, most: usize, buffer: &mut Vec<u8>) -> io::Result<T> {
    let mut length = [0; LENGTH];
    input.read_exact(&mut length)?;
    let length = u32::from_le_bytes(length) as usize;
    if length > most {
        return Err(wrong(format!("a message of {length} bytes came; {most} is the most")));
    }
    buffer.clear();
    // As much memory as has come, whatever was promised.
    let come = input.by_ref().take(length as u64).read_to_end(buffer)?;
    if come < length {
        return Err(io::ErrorKind::UnexpectedEof.into());
    }
    decode(buffer)
}

/// Returns what a message says.
///
/// # Errors
/// When it is not what was expected.
pub fn decode<T: DeserializeOwned>(bytes: &[u8]) -> io::Result<T> {
    match postcard::take_from_bytes(bytes) {
        Ok((message, [])) => Ok(message),
        Ok((_, left)) => Err(wrong(format!("a message has {} bytes too many", left.len()))),
        Err(error) => Err(wrong(format!("a message cannot be read: {error}"))),
    }
}

fn wrong(text: String) -> io::Error {
    io::Error::new(io::ErrorKind::InvalidData, text)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn messages_arrive_as_they_were_sent(messages: Vec<(u32, String)>) {
            let (mut bytes, mut buffer) = (Vec::new(), Vec::new());
            messages.iter().for_each(|message| encode(message, &mut bytes));
            let mut input = &bytes[..];
            for message in messages {
                prop_assert_eq!(read::<(u32, String)>(&mut input, 1 << 20, &mut buffer).unwrap(), message);
            }
            prop_assert!(input.is_empty());
        }
    }

    #[test]
    fn what_is_too_long_cut_off_or_something_else_is_refused() {
        let mut bytes = Vec::new();
        encode(&"boat", &mut bytes);
        let read = |bytes: &[u8], most| read::<String>(&mut &*bytes, most, &mut Vec::new());
        let kind = |bytes: &[u8], most| read(bytes, most).unwrap_err().kind();
        assert_eq!(read(&bytes, 5).unwrap(), "boat");
        assert_eq!(kind(&bytes, 4), io::ErrorKind::InvalidData);
        assert_eq!(kind(&bytes[..6], 5), io::ErrorKind::UnexpectedEof);
        assert_eq!(
            kind(&[6, 0, 0, 0, 4, b'b', b'o', b'a', b't', 0], 9),
            io::ErrorKind::InvalidData
        );
        assert_eq!(kind(&[2, 0, 0, 0, 9, 0], 9), io::ErrorKind::InvalidData);
    }
}
