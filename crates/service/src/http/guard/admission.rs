//! The identity of a caller, and whether it is enough for an address.

use super::Access;
use super::limits::{KeyLimits, Permit};
use crate::access::keys::{KeyState, PREFIX, find_key, find_key_of_id, key_state};
use crate::access::operator::Operator;
use crate::access::sessions::Holder;
use crate::http::own_address::OwnAddress;
use crate::http::problem::Problem;
use crate::http::session_secrets::SessionSecrets;
use crate::http::state::ServiceState;
use actix_web::http::Method;
use actix_web::http::header::{AUTHORIZATION, HOST, HeaderMap, HeaderName, ORIGIN};
use actix_web::{HttpRequest, web};
use std::sync::Arc;
use subtle::ConstantTimeEq;
use vastrelay_control::endpoints::visibility::Visibility;
use vastrelay_fleet::dispatch::KeyShare;
use vastrelay_store::{KeyRecord, Scope, milliseconds_since_1970};

/// A key's last use is noted again after this many milliseconds.
const USE_NOTED_EVERY: i64 = 5_000;
/// The header in which browsers say whether a request comes from the same origin.
const SEC_FETCH_SITE: HeaderName = HeaderName::from_static("sec-fetch-site");

/// The proof of a caller's identity.
#[derive(Clone, Default)]
enum Proof {
    /// Nothing; the address asked for nothing, or keys are optional.
    #[default]
    Nothing,
    /// A key.
    Key,
    /// A connection over the operator's socket.
    Socket,
    /// A session of the console.
    Session(SessionSecrets),
}

/// A caller: its key, where one was given and looked up, or the local user.
#[derive(Clone, Default)]
pub struct Caller {
    pub(crate) key: Option<Arc<KeyRecord>>,
    user: Option<Arc<str>>,
    proof: Proof,
}

impl Caller {
    /// Returns the name of its key, or of the local user; empty where it needed none.
    pub(crate) fn name(&self) -> &str {
        match (&self.key, &self.user) {
            (Some(key), _) => &key.name,
            (None, Some(user)) => user,
            (None, None) => "",
        }
    }

    /// Takes a place for one call, where its key has limits.
    ///
    /// # Errors
    /// As of [`KeyLimits::enter`].
    pub(crate) fn permit(&self, limits: &KeyLimits) -> Result<Option<Permit>, Problem> {
        let key = self.key.as_ref();
        key.map(|key| limits.enter(key)).transpose()
    }

    /// Returns its key, as queues see it.
    pub(crate) fn key_share(&self) -> KeyShare {
        let key = self.key.as_ref();
        key.map_or(KeyShare::plain(""), |key| KeyShare {
            id: key.id.as_str().into(),
            weight: key.weight,
        })
    }

    /// Returns which endpoints it knows of.
    pub(crate) fn visibility(&self) -> Visibility {
        self.key
            .as_ref()
            .map_or(Visibility::all(), |key| Visibility::of(&key.endpoints))
    }

    /// Returns whether it is the service's own user, or root, on this machine: files that they name are read as by themselves.
    pub(crate) fn is_operator(&self) -> bool {
        matches!(self.proof, Proof::Socket)
    }

    /// Returns the holder of a session that this caller may begin.
    pub(crate) fn session_holder(&self) -> Option<Holder> {
        let key = self.key.as_ref().map(|key| Holder::Key {
            id: key.id.clone(),
            name: key.name.clone(),
        });
        key.or_else(|| self.user.clone().map(Holder::User))
    }
}

/// Returns who calls, when that is enough for what is asked.
///
/// # Errors
/// 401 and 403 with what is missing, 503 when the key cannot be looked up.
pub(crate) async fn caller_of(state: &ServiceState, request: &HttpRequest, asks: Access) -> Result<Caller, Problem> {
    if asks == Access::Nothing {
        return Ok(Caller::default());
    }
    let needs_proof = asks == Access::Manage || state.reach.wants_key;
    if let Some(operator) = request.conn_data::<Operator>() {
        return Ok(Caller {
            user: Some(operator.name.clone()),
            proof: Proof::Socket,
            ..Caller::default()
        });
    }
    if let Some(secrets) = SessionSecrets::of(request) {
        return caller_of_session(state, request, secrets).await;
    }
    let bearer = bearer(request.headers());
    if asks == Access::Use && bearer.is_some_and(|token| is_own_token(request, token)) {
        return Ok(Caller::default());
    }
    // Where keys are optional, foreign tokens are ignored; our own are checked all the same.
    match bearer.filter(|key| needs_proof || key.starts_with(PREFIX)) {
        Some(key) => caller_of_key(state, key, asks).await,
        None if !needs_proof => Ok(Caller::default()),
        None if asks == Access::Manage => Err(Problem::no_manager()),
        None => Err(Problem::no_key()),
    }
}

/// Makes sure that a caller who was admitted still would be: its key is neither revoked nor expired, its session not over.
///
/// # Errors
/// As of [`caller_of`].
pub(crate) async fn check_again(state: &ServiceState, caller: &Caller) -> Result<(), Problem> {
    if let Proof::Session(secrets) = &caller.proof
        && secrets.holder(&state.sessions).is_none()
    {
        return Err(Problem::session_over());
    }
    if let Some(key) = &caller.key {
        key_of_id(state, &key.id).await?;
    }
    Ok(())
}

async fn caller_of_key(state: &ServiceState, key: &str, asks: Access) -> Result<Caller, Problem> {
    let record = find_key(&state.records.store, key).await?;
    let record = valid(record.ok_or_else(Problem::unknown_key)?)?;
    if asks == Access::Manage && record.scope != Scope::Manage {
        return Err(Problem::scope_missing(&record.name));
    }
    let now = milliseconds_since_1970();
    if record.used_ms.is_none_or(|used| now - used > USE_NOTED_EVERY) {
        state.records.store.key_used(&record.id, now);
    }
    Ok(Caller {
        key: Some(Arc::new(record)),
        proof: Proof::Key,
        ..Caller::default()
    })
}

/// Returns the caller behind a session; a session that began with a key ends with it.
async fn caller_of_session(
    state: &ServiceState,
    request: &HttpRequest,
    secrets: SessionSecrets,
) -> Result<Caller, Problem> {
    check_origin(request)?;
    let (key, user) = match secrets.holder(&state.sessions) {
        None => return Err(Problem::session_over()),
        Some(Holder::User(user)) => (None, Some(user)),
        Some(Holder::Key { id, .. }) => (Some(Arc::new(key_of_id(state, &id).await?)), None),
    };
    let proof = Proof::Session(secrets);
    Ok(Caller { key, user, proof })
}

/// Makes sure that a request with a session comes from a page of this very origin. The browser sets both headers, and pages
/// cannot change them.
fn check_origin(request: &HttpRequest) -> Result<(), Problem> {
    let headers = request.headers();
    if [Method::GET, Method::HEAD].contains(request.method()) {
        return match text(headers, SEC_FETCH_SITE) {
            Some("same-origin") => Ok(()),
            _ => Err(Problem::not_same_origin()),
        };
    }
    let host = text(headers, HOST).unwrap_or_default();
    let origin = text(headers, ORIGIN).and_then(|origin| origin.split_once("://"));
    match origin {
        Some((_, own)) if own.eq_ignore_ascii_case(host) => Ok(()),
        _ => Err(Problem::not_same_origin()),
    }
}

async fn key_of_id(state: &ServiceState, id: &str) -> Result<KeyRecord, Problem> {
    let record = find_key_of_id(&state.records.store, id).await?;
    valid(record.ok_or_else(Problem::unknown_key)?)
}

fn valid(record: KeyRecord) -> Result<KeyRecord, Problem> {
    match key_state(&record, milliseconds_since_1970()) {
        KeyState::Valid => Ok(record),
        KeyState::Expired => Err(Problem::expired_key(&record.name)),
        KeyState::Revoked => Err(Problem::revoked_key(&record.name)),
    }
}

/// Returns whether a token is the one with which the service calls itself.
fn is_own_token(request: &HttpRequest, token: &str) -> bool {
    let own = request.app_data::<web::Data<OwnAddress>>();
    own.is_some_and(|own| own.token.as_bytes().ct_eq(token.as_bytes()).into())
}

/// Returns the token of an `Authorization: Bearer` header.
pub(crate) fn bearer(headers: &HeaderMap) -> Option<&str> {
    let (kind, key) = text(headers, AUTHORIZATION)?.split_once(' ')?;
    kind.eq_ignore_ascii_case("bearer").then_some(key.trim())
}

fn text(headers: &HeaderMap, name: HeaderName) -> Option<&str> {
    headers.get(name).and_then(|value| value.to_str().ok())
}
