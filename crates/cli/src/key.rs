//! `vastrelay key`.

use crate::args::key::{KeyCommand, KeyCreateOptions, KeyListOptions, KeyPlace, KeyRevokeOptions, Scope};
use crate::client::Client;
use crate::failure::Failure;
use crate::output::{ago, json, line};
use crate::plain::note;
use comfy_table::{Table, presets};
use std::path::Path;
use vastrelay_service::access::keys::{key_entry, make_key};
use vastrelay_store::{Store, milliseconds_since_1970};
use vastrelay_wire::keys::{KeyEntry, KeyScope, MadeKey, NewKey};
use vastrelay_wire::manage::ServiceStatus;

/// Makes, lists or revokes keys: through the service, or in its database when a folder is named.
pub async fn run(command: &KeyCommand) -> Result<(), Failure> {
    match command {
        KeyCommand::Create(options) => create(options).await,
        KeyCommand::List(options) => list(options).await,
        KeyCommand::Revoke(options) => revoke(options).await,
    }
}

async fn create(options: &KeyCreateOptions) -> Result<(), Failure> {
    let wanted = NewKey {
        name: options.name.clone(),
        scope: match options.scope {
            Scope::Use => KeyScope::Use,
            Scope::Manage => KeyScope::Manage,
        },
        expires_in: options.expires.map(|life| life.as_secs()),
        per_minute: options.rate,
        at_once: options.at_once,
        weight: options.weight,
        endpoints: options.endpoints.clone(),
    };
    let place = key_store(&options.place)?;
    let made: MadeKey = match &place {
        KeyStore::Service(client) => client.post_for("/manage/keys", &wanted).await?,
        KeyStore::Folder(store) => make_key(store, wanted).map_err(Failure::failed)?,
    };
    if options.json {
        return json(&made);
    }
    line(&made.key);
    if let KeyStore::Service(client) = &place {
        note_unknown_endpoints(client, &options.endpoints).await;
    }
    note(format!(
        "Key `{}` (id {}). It is shown only once. Send it as `Authorization: Bearer KEY`, or set VASTRELAY_KEY.",
        made.entry.name, made.entry.id
    ));
    Ok(())
}

/// Says which of the endpoints that a key is for are not there.
async fn note_unknown_endpoints(client: &Client, wanted: &[String]) {
    let Ok(status) = client.get::<ServiceStatus>("/manage/status").await else {
        return;
    };
    let served = status.endpoints.iter().map(|endpoint| endpoint.name.as_str());
    let known: Vec<&str> = served
        .chain(status.resting.iter().map(|resting| resting.name.as_str()))
        .collect();
    for missing in wanted.iter().filter(|name| !known.contains(&name.as_str())) {
        note(format!(
            "note: there is no endpoint `{missing}` yet, so the key can call nothing under that name; endpoints here: {}",
            if known.is_empty() {
                "none".into()
            } else {
                known.join(", ")
            }
        ));
    }
}

async fn list(options: &KeyListOptions) -> Result<(), Failure> {
    let keys: Vec<KeyEntry> = match key_store(&options.place)? {
        KeyStore::Service(client) => client.get("/manage/keys").await?,
        KeyStore::Folder(store) => {
            let (keys, now) = (store.keys().map_err(Failure::failed)?, milliseconds_since_1970());
            keys.into_iter().map(|key| key_entry(key, now)).collect()
        }
    };
    if options.json {
        return json(&keys);
    }
    if keys.is_empty() {
        line("no keys yet; create one with `vastrelay key create --name NAME`");
        return Ok(());
    }
    let mut table = Table::new();
    table.load_preset(presets::NOTHING);
    table.set_header([
        "id",
        "name",
        "scope",
        "state",
        "created",
        "expires",
        "last used",
        "per minute",
        "at once",
        "weight",
        "endpoints",
    ]);
    for key in &keys {
        table.add_row(row(key));
    }
    line(format!("{table}"));
    Ok(())
}

async fn revoke(options: &KeyRevokeOptions) -> Result<(), Failure> {
    // The whole key works as well as its id.
    let id = options.id.strip_prefix("vr-").and_then(|rest| rest.split('-').next());
    let id = id.unwrap_or(&options.id);
    let now = milliseconds_since_1970();
    let missing = || Failure::failed(format!("there is no key `{id}`; `vastrelay key list` shows all keys"));
    let (before, name) = match key_store(&options.place)? {
        KeyStore::Service(client) => {
            let all: Vec<KeyEntry> = client.get("/manage/keys").await?;
            let before = all.into_iter().find(|key| key.id == id).ok_or_else(missing)?.revoked_ms;
            let key: KeyEntry = client.delete(&format!("/manage/keys/{id}")).await?;
            (before, key.name)
        }
        KeyStore::Folder(store) => {
            let before = store.key(id).map_err(Failure::failed)?.and_then(|key| key.revoked_ms);
            store.revoke_key(id, now).map_err(Failure::failed)?;
            let key = store.key(id).map_err(Failure::failed)?;
            (before, key.ok_or_else(missing)?.name)
        }
    };
    match before {
        None => line(format!("revoked key `{name}` ({id})")),
        Some(at) => line(format!(
            "key `{name}` ({id}) was revoked already, {} ago",
            ago((now - at) as f64 / 1000.0)
        )),
    }
    Ok(())
}

enum KeyStore {
    Service(Box<Client>),
    Folder(Box<Store>),
}

fn key_store(options: &KeyPlace) -> Result<KeyStore, Failure> {
    match &options.data {
        None => Ok(KeyStore::Service(Box::new(Client::new(&options.connection)?))),
        Some(folder) => open(folder).map(|store| KeyStore::Folder(Box::new(store))),
    }
}

fn open(folder: &Path) -> Result<Store, Failure> {
    Store::open_beside(folder).map_err(Failure::failed)
}

fn row(key: &KeyEntry) -> Vec<String> {
    let now = milliseconds_since_1970();
    let since = |at: Option<i64>| at.map_or("never".into(), |at| format!("{} ago", ago((now - at) as f64 / 1000.0)));
    let limit = |limit: Option<u32>| limit.map_or("–".into(), |limit| limit.to_string());
    let ends = match (key.expires_ms, key.state.as_str()) {
        (None, _) => "never".into(),
        (Some(at), "valid") => format!("in {}", ago((at - now) as f64 / 1000.0)),
        (Some(at), _) => since(Some(at)),
    };
    vec![
        key.id.clone(),
        key.name.clone(),
        match key.scope {
            KeyScope::Use => "use".into(),
            KeyScope::Manage => "manage".into(),
        },
        key.state.clone(),
        since(Some(key.created_ms)),
        ends,
        since(key.used_ms),
        limit(key.per_minute),
        limit(key.at_once),
        key.weight.to_string(),
        match key.endpoints.is_empty() {
            true => "all".into(),
            false => key.endpoints.join(", "),
        },
    ]
}
