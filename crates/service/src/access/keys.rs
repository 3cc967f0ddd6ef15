//! Keys: made, shown once, kept as hashes, checked in constant time.

use std::time::Duration;
use subtle::ConstantTimeEq;
use tokio::sync::oneshot;
use tokio::time::timeout;
use vastrelay_control::endpoints::name::check_name;
use vastrelay_store::{KeyRecord, Scope, Store, StoreError, milliseconds_since_1970};
use vastrelay_wire::keys::{KeyEntry, KeyScope, MadeKey, NewKey};

/// Every key begins so; it can be told from other programs' secrets, and found where it was leaked.
pub(crate) const PREFIX: &str = "vr-";
/// Most characters of a key's name.
const LONGEST_NAME: usize = 80;
/// Most endpoints that a key names.
const MOST_ENDPOINTS: usize = 100;
/// Greatest weight of a key.
const MOST_WEIGHT: u32 = 100;
/// Longest wait for a key to be looked up.
const LONGEST_WAIT: Duration = Duration::from_secs(1);
/// A longer life than this is no expiry at all.
const LONGEST_LIFE: Duration = Duration::from_secs(100 * 365 * 24 * 3600);

/// Why a key cannot be made.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum MakeKeyError {
    /// An invalid field, and what works.
    #[error("{1}")]
    Field(&'static str, String),
    /// The system gives no random bytes.
    #[error("no random bytes from the system: {0}")]
    Random(getrandom::Error),
    /// The database.
    #[error(transparent)]
    Store(#[from] StoreError),
}

/// Makes a key and keeps its hash.
///
/// # Errors
/// When a field cannot be or the key cannot be kept.
pub fn make_key(store: &Store, wanted: NewKey) -> Result<MadeKey, MakeKeyError> {
    let name = wanted.name.trim();
    let refuse = |field, text: &str| Err(MakeKeyError::Field(field, format!("`{field}` {text}")));
    if name.is_empty() || name.chars().count() > LONGEST_NAME || name.contains(misleads) {
        return refuse(
            "name",
            "must have 1 to 80 characters, none of which control a terminal or the direction of text, such as \"ferry desk\"",
        );
    }
    if wanted
        .expires_in
        .is_some_and(|seconds| seconds == 0 || seconds > LONGEST_LIFE.as_secs())
    {
        return refuse("expires_in", "must be between one second and a hundred years");
    }
    if wanted.per_minute == Some(0) || wanted.at_once == Some(0) {
        let field = if wanted.per_minute == Some(0) {
            "per_minute"
        } else {
            "at_once"
        };
        return refuse(field, "must be 1 or more; with 0 the key could not be used");
    }
    let weight = wanted.weight.unwrap_or(1);
    if !(1..=MOST_WEIGHT).contains(&weight) {
        return refuse(
            "weight",
            "must be between 1 and 100; a key of weight 2 gets twice the lanes of a key of weight 1",
        );
    }
    if wanted.endpoints.len() > MOST_ENDPOINTS {
        return refuse("endpoints", "must be 100 at most; leave it out for all");
    }
    if !wanted.endpoints.is_empty() && wanted.scope == KeyScope::Manage {
        return refuse(
            "endpoints",
            "must be left out for a key that manages the service: it sees all of them",
        );
    }
    let now = milliseconds_since_1970();
    let namesake = store
        .keys()?
        .into_iter()
        .find(|key| key.name == name && key_state(key, now) == KeyState::Valid);
    if let Some(KeyRecord { id, .. }) = namesake {
        return Err(MakeKeyError::Field(
            "name",
            format!(
                "there is a key `{name}` already ({id}); use another name, or revoke that one: vastrelay key revoke {id}"
            ),
        ));
    }
    if let Some(wrong) = wanted.endpoints.iter().find_map(|name| check_name(name).err()) {
        return Err(MakeKeyError::Field("endpoints", wrong));
    }
    let mut random = [0; 28];
    getrandom::fill(&mut random).map_err(MakeKeyError::Random)?;
    let hex: String = random.iter().map(|byte| format!("{byte:02x}")).collect();
    let (id, secret) = hex.split_at(8);
    let key = format!("{PREFIX}{id}-{secret}");
    let record = KeyRecord {
        id: id.to_owned(),
        name: name.to_owned(),
        hash: *blake3::hash(key.as_bytes()).as_bytes(),
        scope: match wanted.scope {
            KeyScope::Use => Scope::Use,
            KeyScope::Manage => Scope::Manage,
        },
        created_ms: now,
        expires_ms: wanted.expires_in.map(|seconds| now + seconds as i64 * 1000),
        revoked_ms: None,
        used_ms: None,
        per_minute: wanted.per_minute,
        at_once: wanted.at_once,
        weight,
        endpoints: wanted.endpoints,
    };
    store.add_key(&record)?;
    let entry = key_entry(record, now);
    Ok(MadeKey { key, entry })
}

/// Returns whether a character makes a text look other than it is: a control character, or one that changes its direction.
fn misleads(c: char) -> bool {
    let changes_direction =
        matches!(c, '\u{061c}' | '\u{200e}' | '\u{200f}' | '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}');
    c.is_control() || changes_direction
}

/// How a key stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum KeyState {
    Valid,
    Expired,
    Revoked,
}

pub(crate) fn key_state(key: &KeyRecord, now_ms: i64) -> KeyState {
    if key.revoked_ms.is_some() {
        KeyState::Revoked
    } else if key.expires_ms.is_some_and(|end| end <= now_ms) {
        KeyState::Expired
    } else {
        KeyState::Valid
    }
}

/// The database did not answer in time whether a key is valid.
#[derive(Debug)]
pub(crate) struct KeysUnavailable;

/// Returns the record of a key, or `None` when no such key was ever made. The secret is compared in constant time.
///
/// # Errors
/// When the database does not answer within a second.
pub(crate) async fn find_key(store: &Store, key: &str) -> Result<Option<KeyRecord>, KeysUnavailable> {
    let id = key.strip_prefix(PREFIX).and_then(|rest| rest.split_once('-'));
    let Some((id, _)) = id else { return Ok(None) };
    let record = find_key_of_id(store, id).await?;
    let hash = blake3::hash(key.as_bytes());
    Ok(record.filter(|record| record.hash.ct_eq(hash.as_bytes()).into()))
}

/// Returns the record of the key with an id, or `None` when no such key was ever made.
///
/// # Errors
/// When the database does not answer within a second.
pub(crate) async fn find_key_of_id(store: &Store, id: &str) -> Result<Option<KeyRecord>, KeysUnavailable> {
    let (deliver, found) = oneshot::channel();
    let asked = store.look_up_key(id, move |found| {
        // The caller may have given up.
        let _ = deliver.send(found);
    });
    asked.map_err(|_| KeysUnavailable)?;
    let found = timeout(LONGEST_WAIT, found).await.map_err(|_| KeysUnavailable)?;
    found.map_err(|_| KeysUnavailable)?.map_err(|error| {
        tracing::error!(%error, "a key could not be looked up");
        KeysUnavailable
    })
}

/// Returns whether there is a key that may be used now.
///
/// # Errors
/// The database's own.
pub fn has_valid_key(store: &Store) -> Result<bool, StoreError> {
    let now = milliseconds_since_1970();
    Ok(store.keys()?.iter().any(|key| key_state(key, now) == KeyState::Valid))
}

/// Returns what may be told of a key.
pub fn key_entry(key: KeyRecord, now_ms: i64) -> KeyEntry {
    let state = match key_state(&key, now_ms) {
        KeyState::Valid => "valid",
        KeyState::Expired => "expired",
        KeyState::Revoked => "revoked",
    };
    KeyEntry {
        id: key.id,
        name: key.name,
        scope: match key.scope {
            Scope::Use => KeyScope::Use,
            Scope::Manage => KeyScope::Manage,
        },
        state: state.into(),
        created_ms: key.created_ms,
        expires_ms: key.expires_ms,
        revoked_ms: key.revoked_ms,
        used_ms: key.used_ms,
        per_minute: key.per_minute,
        at_once: key.at_once,
        weight: key.weight,
        endpoints: key.endpoints,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use vastrelay_store::Retention;

    fn wanted(name: &str) -> NewKey {
        NewKey {
            name: name.into(),
            scope: KeyScope::Use,
            expires_in: None,
            per_minute: None,
            at_once: None,
            weight: None,
            endpoints: Vec::new(),
        }
    }

    #[tokio::test]
    async fn a_key_is_found_by_all_of_it_and_not_kept_in_the_clear() {
        let folder = tempfile::tempdir().unwrap();
        let store = Store::open(folder.path(), Retention::default()).unwrap();
        assert!(!has_valid_key(&store).unwrap());
        let made = make_key(&store, wanted("desk")).unwrap();
        assert_eq!(find_key(&store, &made.key).await.unwrap().unwrap().name, "desk");
        let mut other = made.key.clone();
        let last = other.pop().unwrap();
        other.push(if last == '0' { '1' } else { '0' });
        for wrong in [other.as_str(), "", "vr-", "vr-x-y", &made.key[..made.key.len() - 1]] {
            assert_eq!(find_key(&store, wrong).await.unwrap(), None, "{wrong}");
        }
        drop(store);
        let secret = made.key.rsplit_once('-').unwrap().1.as_bytes();
        for file in std::fs::read_dir(folder.path()).unwrap() {
            let bytes = std::fs::read(file.unwrap().path()).unwrap();
            assert!(!bytes.windows(secret.len()).any(|window| window == secret));
        }
    }

    #[test]
    fn fields_that_cannot_be_are_refused_by_name() {
        let folder = tempfile::tempdir().unwrap();
        let store = Store::open(folder.path(), Retention::default()).unwrap();
        let cases = [
            (wanted("  "), "name"),
            (wanted("a\u{1b}[2Jb"), "name"),
            (wanted("desk\u{202e}evil"), "name"),
            (wanted("desk\u{2066}"), "name"),
            (
                NewKey {
                    expires_in: Some(0),
                    ..wanted("a")
                },
                "expires_in",
            ),
            (
                NewKey {
                    weight: Some(101),
                    ..wanted("a")
                },
                "weight",
            ),
            (
                NewKey {
                    expires_in: Some(u64::MAX),
                    ..wanted("a")
                },
                "expires_in",
            ),
            (
                NewKey {
                    per_minute: Some(0),
                    ..wanted("a")
                },
                "per_minute",
            ),
            (
                NewKey {
                    at_once: Some(0),
                    ..wanted("a")
                },
                "at_once",
            ),
        ];
        for (wanted, field) in cases {
            let error = make_key(&store, wanted).unwrap_err().to_string();
            assert!(error.contains(field), "{error}");
        }
    }
}
