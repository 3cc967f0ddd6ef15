//! Keys of callers: `/manage/keys`.

use crate::access::keys::{MakeKeyError, key_entry, make_key};
use crate::http::guard::{Body, Caller};
use crate::http::problem::Problem;
use crate::http::records::Records;
use actix_web::{HttpResponse, web};
use vastrelay_control::events::EventLog;
use vastrelay_store::milliseconds_since_1970;
use vastrelay_wire::error::ErrorEnvelope;
use vastrelay_wire::keys::{KeyEntry, MadeKey, NewKey};
use vastrelay_wire::manage::EventKind;
use vastrelay_wire::parse::parse_body;

/// `GET /manage/keys`: all keys, the oldest first, without their secrets.
///
/// # Errors
/// 500 when the database cannot be read.
#[utoipa::path(get, path = "/manage/keys", tag = "keys", responses((status = 200, body = Vec<KeyEntry>)))]
pub async fn keys(records: web::Data<Records>) -> Result<HttpResponse, Problem> {
    let keys = records
        .query(|store| {
            store.flush();
            store.keys()
        })
        .await?;
    let now = milliseconds_since_1970();
    let entries: Vec<KeyEntry> = keys.into_iter().map(|key| key_entry(key, now)).collect();
    Ok(HttpResponse::Ok().json(entries))
}

/// `POST /manage/keys`: makes a key; its secret is in this answer and nowhere else.
///
/// # Errors
/// 400 for an invalid field.
#[utoipa::path(post, path = "/manage/keys", tag = "keys", request_body = NewKey, responses(
    (status = 201, body = MadeKey), (status = "4XX", body = ErrorEnvelope)))]
pub async fn add_key(
    records: web::Data<Records>,
    caller: web::ReqData<Caller>,
    body: Body,
) -> Result<HttpResponse, Problem> {
    let wanted: NewKey = parse_body(body.small()?).map_err(|error| Problem::body(&error))?;
    let made = records.query(move |store| match make_key(store, wanted) {
        Err(MakeKeyError::Store(error)) => Err(error),
        made => Ok(made),
    });
    let made = made.await?.map_err(|error| match error {
        MakeKeyError::Field(field, text) => Problem::field(field, text),
        error => Problem::internal(error.to_string()),
    })?;
    let MadeKey { entry, .. } = &made;
    let text = format!("{} ({})", entry.name, entry.id);
    EventLog::new(&records.store, "", 0).done_by(caller.name(), EventKind::KeyMade, text);
    Ok(HttpResponse::Created().json(made))
}

/// `DELETE /manage/keys/{id}`: revokes a key, at once and for good.
///
/// # Errors
/// 404 when there is no such key.
#[utoipa::path(delete, path = "/manage/keys/{id}", tag = "keys", params(("id" = String, Path, description = "The key's id")),
    responses((status = 200, body = KeyEntry), (status = "4XX", body = ErrorEnvelope)))]
pub async fn revoke_key(
    records: web::Data<Records>,
    caller: web::ReqData<Caller>,
    id: web::Path<String>,
) -> Result<HttpResponse, Problem> {
    let (now, wanted) = (milliseconds_since_1970(), id.clone());
    let key = records
        .query(move |store| {
            let before = store.key(&wanted)?;
            store.revoke_key(&wanted, now)?;
            Ok(before.zip(store.key(&wanted)?))
        })
        .await?;
    let (before, key) =
        key.ok_or_else(|| Problem::not_kept(format!("there is no key `{id}`; GET /manage/keys lists all keys")))?;
    if before.revoked_ms.is_none() {
        let text = format!("{} ({})", key.name, key.id);
        EventLog::new(&records.store, "", 0).done_by(caller.name(), EventKind::KeyRevoked, text);
    }
    Ok(HttpResponse::Ok().json(key_entry(key, now)))
}
