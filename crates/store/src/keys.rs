//! Keys of callers, stored as hashes.

use rusqlite::{Connection, OptionalExtension, Row, named_params};

/// What a key may be used for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Scope {
    /// Calling models.
    Use,
    /// That, and managing the service.
    Manage,
}

impl Scope {
    /// Returns the word for it.
    pub fn name(self) -> &'static str {
        match self {
            Scope::Use => "use",
            Scope::Manage => "manage",
        }
    }

    /// Returns the scope of a word.
    pub fn of(name: &str) -> Option<Scope> {
        [Scope::Use, Scope::Manage]
            .into_iter()
            .find(|scope| scope.name() == name)
    }
}

/// What is known of a key: everything but the secret.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct KeyRecord {
    /// The part of the key that names it.
    pub id: String,
    /// Its name, for people.
    pub name: String,
    /// BLAKE3 of the whole key.
    pub hash: [u8; 32],
    /// What it may be used for.
    pub scope: Scope,
    /// When it was made, in milliseconds since 1970.
    pub created_ms: i64,
    /// When it ends.
    pub expires_ms: Option<i64>,
    /// When it was revoked.
    pub revoked_ms: Option<i64>,
    /// When it was last used, to within some seconds.
    pub used_ms: Option<i64>,
    /// Most calls a minute.
    pub per_minute: Option<u32>,
    /// Most calls at the same time.
    pub at_once: Option<u32>,
    /// How many times as many sequences as a key of weight 1 it gets while both have calls waiting; 1 at least.
    pub weight: u32,
    /// The endpoints that may be called with it; all when there are none.
    pub endpoints: Vec<String>,
}

pub(crate) fn insert(connection: &Connection, key: &KeyRecord) -> rusqlite::Result<()> {
    connection.execute(
        "INSERT INTO keys (id, name, hash, scope, created_ms, expires_ms, revoked_ms, used_ms, per_minute, at_once, weight, endpoints)
         VALUES (:id, :name, :hash, :scope, :created, :expires, :revoked, :used, :per_minute, :at_once, :weight, :endpoints)",
        named_params! {
            ":id": key.id,
            ":name": key.name,
            ":hash": key.hash,
            ":scope": key.scope.name(),
            ":created": key.created_ms,
            ":expires": key.expires_ms,
            ":revoked": key.revoked_ms,
            ":used": key.used_ms,
            ":per_minute": key.per_minute,
            ":at_once": key.at_once,
            ":weight": key.weight,
            ":endpoints": key.endpoints.join("\n"),
        },
    )?;
    Ok(())
}

pub(crate) fn find(connection: &Connection, id: &str) -> rusqlite::Result<Option<KeyRecord>> {
    let mut statement = connection.prepare_cached("SELECT * FROM keys WHERE id = ?1")?;
    statement.query_row([id], read).optional()
}

pub(crate) fn all(connection: &Connection) -> rusqlite::Result<Vec<KeyRecord>> {
    let mut statement = connection.prepare_cached("SELECT * FROM keys ORDER BY created_ms, id")?;
    let rows = statement.query_map([], read)?;
    rows.collect()
}

/// Marks a key as revoked; returns whether it was there. A key stays revoked since the first time.
pub(crate) fn revoke(connection: &Connection, id: &str, now_ms: i64) -> rusqlite::Result<bool> {
    let sql = "UPDATE keys SET revoked_ms = ifnull(revoked_ms, ?2) WHERE id = ?1";
    connection.execute(sql, (id, now_ms)).map(|rows| rows > 0)
}

pub(crate) fn touch(connection: &Connection, id: &str, now_ms: i64) -> rusqlite::Result<()> {
    connection
        .prepare_cached("UPDATE keys SET used_ms = ?2 WHERE id = ?1")?
        .execute((id, now_ms))?;
    Ok(())
}

fn read(row: &Row<'_>) -> rusqlite::Result<KeyRecord> {
    let (scope, endpoints): (String, String) = (row.get("scope")?, row.get("endpoints")?);
    Ok(KeyRecord {
        id: row.get("id")?,
        name: row.get("name")?,
        hash: row.get("hash")?,
        scope: Scope::of(&scope).unwrap_or(Scope::Use),
        created_ms: row.get("created_ms")?,
        expires_ms: row.get("expires_ms")?,
        revoked_ms: row.get("revoked_ms")?,
        used_ms: row.get("used_ms")?,
        per_minute: row.get("per_minute")?,
        at_once: row.get("at_once")?,
        weight: row.get("weight")?,
        endpoints: endpoints.lines().map(str::to_owned).collect(),
    })
}
