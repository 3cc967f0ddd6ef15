//! Sessions of the console: begun with a code that is good once, ended by sign-out or after twelve hours.
//!
//! A session is two secrets. The browser keeps one in a cookie that scripts cannot read, the page keeps the other for its
//! tab and sends it in a header. Neither opens anything alone: a page of another port gets the cookie sent but does not have
//! the token, and a script that steals the token does not have the cookie.

use std::collections::VecDeque;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};
use subtle::ConstantTimeEq;

/// How long a code is good for.
pub(crate) const CODE_LIFE: Duration = Duration::from_secs(120);
/// How long a session lasts.
pub(crate) const SESSION_LIFE: Duration = Duration::from_secs(12 * 3_600);
/// Most codes that wait to be used; the oldest is dropped for another one.
const MOST_CODES: usize = 64;
/// Most sessions; the oldest is dropped for another one.
const MOST_SESSIONS: usize = 256;
/// Random bytes of a secret.
const RANDOM: usize = 24;

/// The owner of a session.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Holder {
    /// A local user who asked for a code over the operator's socket.
    User(Arc<str>),
    /// The caller with a key; the session ends with the key.
    Key {
        /// The key's id.
        id: String,
        /// The key's name.
        name: String,
    },
}

impl Holder {
    /// Returns the name of the user or key.
    pub fn name(&self) -> &str {
        match self {
            Holder::User(user) => user,
            Holder::Key { name, .. } => name,
        }
    }
}

/// The two secrets of a new session.
#[derive(Debug)]
pub(crate) struct NewSession {
    pub cookie: String,
    pub token: String,
}

/// All codes and sessions. Secrets are kept as hashes.
#[derive(Default)]
pub(crate) struct Sessions(Mutex<Kept>);

#[derive(Default)]
struct Kept {
    codes: VecDeque<Code>,
    sessions: VecDeque<Session>,
}

struct Code {
    hash: blake3::Hash,
    holder: Holder,
    ends: Instant,
}

struct Session {
    cookie: blake3::Hash,
    token: blake3::Hash,
    holder: Holder,
    ends: Instant,
}

impl Sessions {
    /// Returns a code that begins one session.
    ///
    /// # Errors
    /// When the system has no random bytes.
    pub fn offer(&self, holder: Holder, now: Instant) -> Result<String, getrandom::Error> {
        let code = secret()?;
        let mut kept = self.lock(now);
        push_bounded(
            &mut kept.codes,
            MOST_CODES,
            Code {
                hash: blake3::hash(code.as_bytes()),
                holder,
                ends: now + CODE_LIFE,
            },
        );
        Ok(code)
    }

    /// Begins the session that a code stands for, and returns its holder, too; the code is used up. `None` for a code that is unknown, used or too old.
    ///
    /// # Errors
    /// When the system has no random bytes.
    pub fn exchange(&self, code: &str, now: Instant) -> Result<Option<(Holder, NewSession)>, getrandom::Error> {
        let hash = blake3::hash(code.as_bytes());
        let found = {
            let mut kept = self.lock(now);
            let place = kept.codes.iter().position(|code| same(&code.hash, &hash));
            place.and_then(|place| kept.codes.remove(place))
        };
        found
            .map(|code| Ok((code.holder.clone(), self.begin(code.holder, now)?)))
            .transpose()
    }

    /// Begins a session.
    ///
    /// # Errors
    /// When the system has no random bytes.
    pub fn begin(&self, holder: Holder, now: Instant) -> Result<NewSession, getrandom::Error> {
        let (cookie, token) = (secret()?, secret()?);
        let mut kept = self.lock(now);
        push_bounded(
            &mut kept.sessions,
            MOST_SESSIONS,
            Session {
                cookie: blake3::hash(cookie.as_bytes()),
                token: blake3::hash(token.as_bytes()),
                holder,
                ends: now + SESSION_LIFE,
            },
        );
        Ok(NewSession { cookie, token })
    }

    /// Returns the holder of a session, given both its secrets.
    pub fn holder(&self, cookie: &str, token: &str, now: Instant) -> Option<Holder> {
        let (cookie, token) = (blake3::hash(cookie.as_bytes()), blake3::hash(token.as_bytes()));
        let kept = self.lock(now);
        let found = kept
            .sessions
            .iter()
            .find(|session| same(&session.cookie, &cookie) & same(&session.token, &token));
        found.map(|session| session.holder.clone())
    }

    /// Ends a session, given both its secrets.
    pub fn end(&self, cookie: &str, token: &str, now: Instant) {
        let (cookie, token) = (blake3::hash(cookie.as_bytes()), blake3::hash(token.as_bytes()));
        let mut kept = self.lock(now);
        kept.sessions
            .retain(|session| !(same(&session.cookie, &cookie) & same(&session.token, &token)));
    }

    /// Returns what is kept, without what has ended.
    fn lock(&self, now: Instant) -> std::sync::MutexGuard<'_, Kept> {
        let mut kept = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        kept.codes.retain(|code| code.ends > now);
        kept.sessions.retain(|session| session.ends > now);
        kept
    }
}

fn push_bounded<T>(all: &mut VecDeque<T>, most: usize, one: T) {
    if all.len() == most {
        all.pop_front();
    }
    all.push_back(one);
}

fn same(one: &blake3::Hash, other: &blake3::Hash) -> bool {
    one.as_bytes().ct_eq(other.as_bytes()).into()
}

/// Returns a new secret of letters and digits.
///
/// # Errors
/// When the system has no random bytes.
pub(crate) fn secret() -> Result<String, getrandom::Error> {
    let mut random = [0; RANDOM];
    getrandom::fill(&mut random)?;
    Ok(random.iter().map(|byte| format!("{byte:02x}")).collect())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn key() -> Holder {
        Holder::Key {
            id: "k".into(),
            name: "desk".into(),
        }
    }

    fn user() -> Holder {
        Holder::User("anna".into())
    }

    #[test]
    fn a_code_is_good_once_and_for_two_minutes() {
        let (sessions, now) = (Sessions::default(), Instant::now());
        let code = sessions.offer(user(), now).unwrap();
        assert!(sessions.exchange("other", now).unwrap().is_none());
        let almost = now + CODE_LIFE - Duration::from_secs(1);
        let (holder, session) = sessions.exchange(&code, almost).unwrap().unwrap();
        assert_eq!(holder, user());
        assert!(sessions.exchange(&code, now).unwrap().is_none(), "it was used");
        assert_eq!(sessions.holder(&session.cookie, &session.token, now), Some(user()));
        let late = sessions.offer(user(), now).unwrap();
        assert!(
            sessions.exchange(&late, now + CODE_LIFE).unwrap().is_none(),
            "it is too old"
        );
    }

    #[test]
    fn a_session_needs_both_secrets_and_ends_at_sign_out_or_after_twelve_hours() {
        let (sessions, now) = (Sessions::default(), Instant::now());
        let one = sessions.begin(user(), now).unwrap();
        let other = sessions.begin(key(), now).unwrap();
        for (cookie, token) in [
            (one.cookie.as_str(), ""),
            ("", one.token.as_str()),
            (&one.cookie, &other.token),
            (&one.token, &one.cookie),
        ] {
            assert_eq!(sessions.holder(cookie, token, now), None);
            sessions.end(cookie, token, now);
        }
        assert!(
            sessions
                .holder(&one.cookie, &one.token, now + SESSION_LIFE - Duration::from_secs(1))
                .is_some()
        );
        sessions.end(&one.cookie, &one.token, now);
        assert_eq!(sessions.holder(&one.cookie, &one.token, now), None);
        assert_eq!(sessions.holder(&other.cookie, &other.token, now), Some(key()));
        assert_eq!(sessions.holder(&other.cookie, &other.token, now + SESSION_LIFE), None);
    }

    #[test]
    fn codes_and_sessions_are_bounded() {
        let (sessions, now) = (Sessions::default(), Instant::now());
        let codes: Vec<String> = (0..=MOST_CODES).map(|_| sessions.offer(user(), now).unwrap()).collect();
        assert!(sessions.exchange(&codes[0], now).unwrap().is_none());
        assert!(sessions.exchange(&codes[1], now).unwrap().is_some());
        let begun: Vec<NewSession> = (0..=MOST_SESSIONS)
            .map(|_| sessions.begin(user(), now).unwrap())
            .collect();
        assert_eq!(sessions.holder(&begun[0].cookie, &begun[0].token, now), None);
        assert!(
            sessions
                .holder(&begun[MOST_SESSIONS].cookie, &begun[MOST_SESSIONS].token, now)
                .is_some()
        );
    }
}
