//! The addresses without their handlers, and the address that a path resembles.

use crate::http::guard::Access;
use actix_web::http::Method;
use std::sync::OnceLock;

/// What is known of an address without its handlers.
pub(crate) struct Listed {
    /// The path; a word in braces stands for any.
    pub path: &'static str,
    /// Ways of calling it.
    pub methods: Vec<Method>,
    /// Who may.
    pub access: Access,
}

static LISTED: OnceLock<Vec<Listed>> = OnceLock::new();

/// Takes note of every address; they are the same each time.
pub(crate) fn declare(addresses: Vec<Listed>) {
    LISTED.get_or_init(|| addresses);
}

/// Returns every address.
///
/// # Panics
/// Before they were declared, which a server does before it listens.
pub(crate) fn listed() -> &'static [Listed] {
    LISTED.get().expect("the addresses are declared before anybody calls")
}

/// Returns what an address that is not one of ours asks of its caller: as much as the one it resembles, in whatever way it is
/// spelt, else a key.
pub(crate) fn access_of(path: &str) -> Access {
    resembled(path)
        .map(|address| address.access)
        .max()
        .unwrap_or(Access::Use)
}

/// Returns the addresses that a path is a misspelling of: letters percent-encoded or in upper case, a prefix missing or
/// doubled, slashes or dot segments too many.
pub(crate) fn resembled(path: &str) -> impl Iterator<Item = &'static Listed> {
    let words = plain_segments(path);
    listed().iter().filter(move |address| {
        let wanted = plain_segments(address.path);
        let any_end = wanted.last().is_some_and(|word| word.ends_with(":.+}"));
        let is_like = |(word, wanted): (&String, &String)| wanted.starts_with('{') || word == wanted;
        (words.len() == wanted.len() || any_end && words.len() > wanted.len()) && words.iter().zip(&wanted).all(is_like)
    })
}

/// Whether a path has segments that mean another one, or empty ones.
pub(crate) fn is_crooked(path: &str) -> bool {
    let plain = decoded(path);
    plain.contains("//") || plain.split('/').any(|word| word == "." || word == "..")
}

/// Returns the segments of a path in their plainest spelling, without version prefixes.
fn plain_segments(path: &str) -> Vec<String> {
    let mut words: Vec<String> = Vec::new();
    for word in decoded(path).split(['/', '\\']) {
        match word {
            "" | "." => {}
            ".." => drop(words.pop()),
            word => words.push(if word.starts_with('{') {
                word.to_owned()
            } else {
                word.to_lowercase()
            }),
        }
    }
    words.retain(|word| word != "v1");
    words
}

/// Decodes percent-encoding until there is none left.
fn decoded(path: &str) -> String {
    let mut text = path.to_owned();
    for _ in 0..3 {
        let once = percent_encoding::percent_decode_str(&text)
            .decode_utf8_lossy()
            .into_owned();
        if once == text {
            break;
        }
        text = once;
    }
    text
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn resembles(path: &str, address: &str) -> bool {
        crate::server::routes::declare();
        resembled(path).any(|listed| listed.path == address)
    }

    #[test]
    fn near_misses_resemble_and_others_do_not() {
        for path in [
            "/chat/completions",
            "/v1/v1/chat/completions",
            "/v1//chat/completions/",
            "/V1/Chat/completions",
            "/v1/%63hat/./completions",
        ] {
            assert!(resembles(path, "/v1/chat/completions"), "{path}");
        }
        assert!(!resembles("/v1/completions", "/v1/chat/completions"));
        assert!(!resembles("/v1/images", "/v1/models"));
    }

    #[test]
    fn every_spelling_of_an_address_asks_for_as_much() {
        crate::server::routes::declare();
        for path in [
            "/manage/keys/",
            "//manage//keys",
            "/%6danage/keys",
            "/manage%2fkeys",
            "/manage%252Fkeys",
            "/console/../manage/keys",
            "/manage/runs/../keys",
            "/MANAGE/Keys",
            "/v1/manage/keys",
        ] {
            assert_eq!(access_of(path), Access::Manage, "{path}");
        }
        assert_eq!(access_of("/health/live/"), Access::Nothing);
        assert_eq!(access_of("/nothing/like/it"), Access::Use);
    }

    /// Returns a path with a made-up word for each parameter.
    fn without_parameters(path: &str) -> String {
        let words = path
            .split('/')
            .map(|word| if word.starts_with('{') { "zz" } else { word });
        words.collect::<Vec<_>>().join("/")
    }

    #[test]
    fn every_address_is_spelt_in_the_property_below() {
        crate::server::routes::declare();
        assert!(listed().len() > 40 && listed().len() < 1_000);
        assert_eq!(
            without_parameters("/manage/endpoints/{name:.+}/stop"),
            "/manage/endpoints/zz/stop"
        );
    }

    proptest! {
        /// No spelling of a managing address admits a caller without a key.
        #[test]
        fn no_spelling_opens_an_address(index in 0usize..1_000, encode in prop::collection::vec(any::<bool>(), 40), doubled in 0usize..4) {
            crate::server::routes::declare();
            let address = &listed()[index % listed().len()];
            let path = without_parameters(address.path);
            let spelt: String = path.char_indices().map(|(at, c)| match c {
                '/' if at == doubled => "//".to_owned(),
                c if c.is_ascii_lowercase() && encode[at % encode.len()] => format!("%{:02x}", c as u32),
                c => c.to_string(),
            }).collect();
            prop_assert!(access_of(&spelt) >= address.access, "{}", spelt);
        }
    }
}
