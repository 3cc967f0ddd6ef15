//! The secrets of a session, as a request carries them.

use crate::access::sessions::{Holder, Sessions};
use crate::http::own_address::OwnAddress;
use actix_web::{HttpRequest, web};
use std::time::Instant;

/// The header with the page's half of a session.
const TOKEN: &str = "x-vastrelay-session";

/// Both secrets of a session, as a request carries them.
#[derive(Clone)]
pub(crate) struct SessionSecrets {
    pub cookie: String,
    pub token: String,
}

impl SessionSecrets {
    /// Returns those of a request; `None` when either is missing.
    pub fn of(request: &HttpRequest) -> Option<SessionSecrets> {
        let token = request.headers().get(TOKEN)?.to_str().ok()?.to_owned();
        let cookie = request.cookie(&cookie_name(own_address(request)?))?;
        Some(SessionSecrets {
            cookie: cookie.value().to_owned(),
            token,
        })
    }

    /// Returns who the session belongs to, while it lasts.
    pub fn holder(&self, sessions: &Sessions) -> Option<Holder> {
        sessions.holder(&self.cookie, &self.token, Instant::now())
    }
}

/// Returns where the service can be reached, where it knows that.
pub(crate) fn own_address(request: &HttpRequest) -> Option<&OwnAddress> {
    request.app_data::<web::Data<OwnAddress>>().map(|own| own.get_ref())
}

/// Returns the cookie's name. Cookies do not know ports, so two services on one machine must differ in it.
pub(crate) fn cookie_name(own: &OwnAddress) -> String {
    format!("vastrelay-session-{}", own.socket.port())
}
