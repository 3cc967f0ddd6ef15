//! Keys of callers: `/manage/keys`.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What a key may be used for.
#[derive(Clone, Copy, Debug, Default, Deserialize, Serialize, ToSchema, PartialEq, Eq)]
#[serde(rename_all = "lowercase")]
pub enum KeyScope {
    /// Calling models and reading metrics.
    #[default]
    Use,
    /// That, and managing the service.
    Manage,
}

/// `POST /manage/keys`.
#[derive(Clone, Debug, Deserialize, Serialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewKey {
    /// A name for people.
    pub name: String,
    /// What it may be used for; `use` when absent.
    #[serde(default)]
    pub scope: KeyScope,
    /// Seconds until it expires; never when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub expires_in: Option<u64>,
    /// Maximum calls per minute.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub per_minute: Option<u32>,
    /// Maximum concurrent calls.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at_once: Option<u32>,
    /// How many times as many lanes as a key of weight 1 it gets while calls of both wait: 1 to 100, 1 when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub weight: Option<u32>,
    /// The endpoints that may be called with it; all when there are none. A caller with this key sees no others.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub endpoints: Vec<String>,
}

/// A key that was just created: the only time that it is shown.
#[derive(Clone, Debug, Deserialize, Serialize, ToSchema)]
pub struct MadeKey {
    /// The key itself, to be sent as `Authorization: Bearer …`.
    pub key: String,
    /// What is kept of it.
    pub entry: KeyEntry,
}

/// One of `GET /manage/keys`: what is known of a key. Moments in milliseconds since 1970.
#[derive(Clone, Debug, Deserialize, Serialize, ToSchema)]
pub struct KeyEntry {
    /// The part of the key that names it.
    pub id: String,
    /// Its name.
    pub name: String,
    /// What it may be used for.
    pub scope: KeyScope,
    /// `valid`, `expired` or `revoked`.
    pub state: String,
    /// When it was created.
    pub created_ms: i64,
    /// When it expires.
    pub expires_ms: Option<i64>,
    /// When it was revoked.
    pub revoked_ms: Option<i64>,
    /// When it was last used.
    pub used_ms: Option<i64>,
    /// Maximum calls per minute.
    pub per_minute: Option<u32>,
    /// Maximum concurrent calls.
    pub at_once: Option<u32>,
    /// How many times as many lanes as a key of weight 1 it gets while calls of both wait.
    pub weight: u32,
    /// The endpoints that may be called with it; all when there are none.
    #[serde(default)]
    pub endpoints: Vec<String>,
}

/// The answer of `POST /manage/console`.
#[derive(Clone, Debug, Deserialize, Serialize, ToSchema)]
pub struct ConsoleCode {
    /// Begins one session; goes into the fragment of the console's address as `#code=…`.
    pub code: String,
    /// Seconds for which it is good.
    pub expires_in: u64,
}

/// `POST /session`.
#[derive(Clone, Debug, Default, Deserialize, Serialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SessionOrder {
    /// A code from `POST /manage/console`; the key of the request when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub code: Option<String>,
}

/// The answer of `POST /session`.
#[derive(Clone, Debug, Deserialize, Serialize, ToSchema)]
pub struct SessionBegun {
    /// The page's half of the session, sent as `x-vastrelay-session` with each call.
    pub token: String,
    /// Seconds until the session ends.
    pub expires_in: u64,
}
