//! Signing in to the console, and out: `/session` and `/manage/console`.

use crate::access::sessions::{CODE_LIFE, NewSession, SESSION_LIFE};
use crate::http::guard::{Access, Body, Caller, caller_of};
use crate::http::own_address::OwnAddress;
use crate::http::problem::Problem;
use crate::http::records::Records;
use crate::http::session_secrets::{SessionSecrets, cookie_name, own_address};
use crate::http::state::ServiceState;
use actix_web::cookie::time::Duration as CookieAge;
use actix_web::cookie::{Cookie, SameSite};
use actix_web::{HttpRequest, HttpResponse, web};
use std::time::Instant;
use vastrelay_control::events::EventLog;
use vastrelay_wire::error::ErrorEnvelope;
use vastrelay_wire::keys::{ConsoleCode, SessionBegun, SessionOrder};
use vastrelay_wire::manage::EventKind;
use vastrelay_wire::parse::parse_body;

/// `POST /manage/console`: makes a code that begins one session of the console.
///
/// # Errors
/// 401 and 403 as of every managing address.
#[utoipa::path(post, path = "/manage/console", operation_id = "console_code", tag = "keys", responses(
    (status = 201, body = ConsoleCode), (status = "4XX", body = ErrorEnvelope)))]
pub async fn offer(state: web::Data<ServiceState>, caller: web::ReqData<Caller>) -> Result<HttpResponse, Problem> {
    let holder = caller.session_holder().ok_or_else(Problem::no_manager)?;
    let code = state.sessions.offer(holder, Instant::now()).map_err(no_random)?;
    Ok(HttpResponse::Created().json(ConsoleCode {
        code,
        expires_in: CODE_LIFE.as_secs(),
    }))
}

/// `POST /session`: begins a session of the console, with a code from `/manage/console` or with a key of scope `manage`.
/// The answer has the page's half; the browser's half is its cookie.
///
/// # Errors
/// 401 when the code was used or is too old, or the key is not valid; 403 when the key may not manage.
#[utoipa::path(post, path = "/session", operation_id = "begin_session", tag = "keys", request_body = SessionOrder, responses(
    (status = 201, body = SessionBegun), (status = "4XX", body = ErrorEnvelope)))]
pub async fn begin(
    state: web::Data<ServiceState>,
    records: web::Data<Records>,
    request: HttpRequest,
    body: Body,
) -> Result<HttpResponse, Problem> {
    let order: SessionOrder = parse_body(body.small()?).map_err(|error| Problem::body(&error))?;
    let now = Instant::now();
    let session = match order.code {
        Some(code) => state.sessions.exchange(&code, now).map_err(no_random)?,
        None => {
            let caller = caller_of(&state, &request, Access::Manage).await?;
            let holder = caller.session_holder().ok_or_else(Problem::no_manager)?;
            let session = state.sessions.begin(holder.clone(), now).map_err(no_random)?;
            Some((holder, session))
        }
    };
    let (holder, NewSession { cookie, token }) = session.ok_or_else(Problem::code_over)?;
    let log = EventLog::new(&records.store, "", 0);
    log.done_by(holder.name(), EventKind::SignedIn, "a session of the console began");
    let own = own_address(&request).ok_or_else(|| Problem::internal("the service does not know its address".into()))?;
    let mut kept = cookie_of(own, cookie);
    kept.set_max_age(CookieAge::seconds(SESSION_LIFE.as_secs() as i64));
    Ok(HttpResponse::Created().cookie(kept).json(SessionBegun {
        token,
        expires_in: SESSION_LIFE.as_secs(),
    }))
}

/// `DELETE /session`: ends the session that the request carries.
///
/// # Errors
/// None; without a session there is nothing to end.
#[utoipa::path(delete, path = "/session", operation_id = "end_session", tag = "keys", responses((status = 204)))]
pub async fn end(state: web::Data<ServiceState>, request: HttpRequest) -> Result<HttpResponse, Problem> {
    if let Some(secrets) = SessionSecrets::of(&request) {
        state.sessions.end(&secrets.cookie, &secrets.token, Instant::now());
    }
    let mut answer = HttpResponse::NoContent();
    if let Some(own) = own_address(&request) {
        let mut gone = cookie_of(own, String::new());
        gone.make_removal();
        answer.cookie(gone);
    }
    Ok(answer.finish())
}

fn cookie_of(own: &OwnAddress, value: String) -> Cookie<'static> {
    Cookie::build(cookie_name(own), value)
        .path("/")
        .http_only(true)
        .same_site(SameSite::Strict)
        .secure(own.certificate.is_some())
        .finish()
}

fn no_random(error: getrandom::Error) -> Problem {
    Problem::internal(format!("no random bytes from the system: {error}"))
}
