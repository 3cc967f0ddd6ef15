//! The bytes that each token stands for.

use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::collections::HashMap;

/// The bytes of every token of a vocabulary, so that decoding is concatenation.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct TokenPieces {
    bytes: Vec<Box<[u8]>>,
    special: Vec<bool>,
    /// Text at the very start carries a space that was never typed.
    strips_first_space: bool,
    /// Bytes of the longest token.
    longest: usize,
}

/// How a tokenizer writes bytes as characters.
enum Scheme {
    /// Each byte is one printable character.
    ByteLevel(HashMap<char, u8>),
    /// `▁` is a space, `<0x41>` a byte.
    Metaspace,
}

impl TokenPieces {
    /// Reads the pieces out of a tokenizer and its file.
    ///
    /// # Errors
    /// When the decoder is of a kind that is not known.
    pub fn new(tokenizer: &tokenizers::Tokenizer, file: &Value) -> Result<TokenPieces, String> {
        let scheme = Scheme::of(&file["decoder"])?;
        let added = tokenizer.get_added_tokens_decoder();
        let size = tokenizer
            .get_vocab(true)
            .into_values()
            .max()
            .map_or(0, |id| id as usize + 1);
        let mut pieces = TokenPieces {
            bytes: Vec::with_capacity(size),
            special: Vec::with_capacity(size),
            strips_first_space: matches!(scheme, Scheme::Metaspace) && strips_first_space(&file["decoder"]),
            longest: 1,
        };
        for id in 0..size as u32 {
            let bytes = match (added.get(&id), tokenizer.id_to_token(id)) {
                (Some(token), _) => token.content.clone().into_bytes(),
                (None, Some(token)) => scheme.bytes(&token),
                (None, None) => Vec::new(),
            };
            pieces.longest = pieces.longest.max(bytes.len());
            pieces.bytes.push(bytes.into());
            pieces.special.push(added.get(&id).is_some_and(|token| token.special));
        }
        Ok(pieces)
    }

    /// Returns the number of ids, gaps included.
    pub fn count(&self) -> usize {
        self.bytes.len()
    }

    /// Returns the bytes of the longest token, at least one.
    pub fn longest(&self) -> usize {
        self.longest
    }

    /// Returns the bytes of a token; none for an id outside the vocabulary.
    pub fn bytes(&self, id: u32) -> &[u8] {
        self.bytes.get(id as usize).map_or(&[], |bytes| bytes)
    }

    /// Returns the text of tokens, control tokens shown by their names; bytes that are no character show as U+FFFD.
    pub fn text(&self, ids: &[u32]) -> String {
        let bytes: Vec<u8> = ids.iter().flat_map(|id| self.bytes(*id).iter().copied()).collect();
        let text = String::from_utf8_lossy(&bytes);
        match text.strip_prefix(' ') {
            Some(rest) if self.strips_first_space => rest.to_owned(),
            _ => text.into_owned(),
        }
    }

    /// Returns whether a token is a control token, which text does not show.
    pub fn is_special(&self, id: u32) -> bool {
        self.special.get(id as usize).copied().unwrap_or(false)
    }

    /// Returns whether a space at the very start of an answer is the tokenizer's own.
    pub fn strips_first_space(&self) -> bool {
        self.strips_first_space
    }
}

/// Returns the decoders of a file's `decoder`, one after the other.
fn decoders(decoder: &Value) -> Vec<&Value> {
    match decoder["decoders"].as_array() {
        Some(several) if decoder["type"] == "Sequence" => several.iter().collect(),
        _ => vec![decoder],
    }
}

/// Returns whether a decoder takes a space away from the beginning, which its tokenizer put there.
fn strips_first_space(decoder: &Value) -> bool {
    let strips = |decoder: &&Value| match decoder["type"].as_str() {
        Some("Strip") => decoder["content"] == " " && decoder["start"].as_u64().is_some_and(|start| start > 0),
        Some("Metaspace") => decoder["add_prefix_space"] != false && decoder["prepend_scheme"] != "never",
        _ => false,
    };
    decoders(decoder).iter().any(strips)
}

impl Scheme {
    fn of(decoder: &Value) -> Result<Scheme, String> {
        let kinds: Vec<&str> = decoders(decoder)
            .into_iter()
            .filter_map(|decoder| decoder["type"].as_str())
            .collect();
        if kinds.contains(&"ByteLevel") {
            Ok(Scheme::ByteLevel(byte_level_alphabet()))
        } else if kinds.contains(&"Metaspace") || kinds.contains(&"ByteFallback") {
            Ok(Scheme::Metaspace)
        } else {
            Err(format!(
                "its `decoder` {kinds:?} is not supported; ByteLevel, Metaspace and ByteFallback are"
            ))
        }
    }

    fn bytes(&self, token: &str) -> Vec<u8> {
        match self {
            Scheme::ByteLevel(alphabet) => match token.chars().map(|c| alphabet.get(&c).copied()).collect() {
                Some(bytes) => bytes,
                None => token.as_bytes().to_vec(),
            },
            Scheme::Metaspace => {
                let byte = token.strip_prefix("<0x").and_then(|rest| rest.strip_suffix('>'));
                match byte
                    .filter(|hex| hex.len() == 2)
                    .and_then(|hex| u8::from_str_radix(hex, 16).ok())
                {
                    Some(byte) => vec![byte],
                    None => token.replace('▁', " ").into_bytes(),
                }
            }
        }
    }
}

/// The characters by which byte-level tokenizers write bytes: printable ones stand for themselves, the others follow
/// from U+0100 on in order ("Language Models are Unsupervised Multitask Learners", Radford et al., 2019).
fn byte_level_alphabet() -> HashMap<char, u8> {
    let printable = |byte: u8| matches!(byte, b'!'..=b'~' | 0xA1..=0xAC | 0xAE..=0xFF);
    let mut next = 0x100u32;
    (0..=255u8)
        .map(|byte| {
            let code = if printable(byte) {
                u32::from(byte)
            } else {
                next += 1;
                next - 1
            };
            (char::from_u32(code).expect("codes up to U+0143 are characters"), byte)
        })
        .collect()
}
