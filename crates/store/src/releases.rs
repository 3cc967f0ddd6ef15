//! Releases of endpoints, and the incarnations of their replicas.

use crate::endpoints::{Granted, StoredEndpoint};
use rusqlite::Connection;

/// The start of a worker process: a new incarnation of a replica.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct IncarnationRecord {
    /// Its number, which no other has.
    pub incarnation: u64,
    /// The endpoint.
    pub endpoint: String,
    /// The number of its release.
    pub release: u32,
    /// The number of the replica.
    pub replica: u32,
    /// The program's version.
    pub version: String,
    /// When it began, in milliseconds since 1970.
    pub at_ms: i64,
}

/// Adds a release with what tells it from others; one that is known stays as it is.
pub(crate) fn insert(
    connection: &Connection,
    endpoint: &str,
    release: u32,
    identity: &str,
    now_ms: i64,
) -> rusqlite::Result<()> {
    let sql = "INSERT OR IGNORE INTO releases (endpoint, release, at_ms, settings) VALUES (?1, ?2, ?3, ?4)";
    connection.execute(sql, (endpoint, release, now_ms, identity))?;
    Ok(())
}

/// Returns the highest number of a release of an endpoint; 0 where it has none.
pub(crate) fn last(connection: &Connection, endpoint: &str) -> rusqlite::Result<u32> {
    let sql = "SELECT COALESCE(MAX(release), 0) FROM releases WHERE endpoint = ?1";
    connection.query_row(sql, [endpoint], |row| row.get(0))
}

/// One release of an endpoint.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ReleaseEntry {
    /// Its number.
    pub release: u32,
    /// When it was first deployed, in milliseconds since 1970.
    pub at_ms: i64,
    /// The spec that it was made from; empty for those of early versions.
    pub spec: String,
    /// The folder that paths in the spec begin at.
    pub beside: String,
    /// Which files it may name.
    pub granted: Granted,
}

/// Puts down the spec that a release was made from.
pub(crate) fn describe(connection: &Connection, endpoint: &StoredEndpoint, release: u32) -> rusqlite::Result<()> {
    let sql = "UPDATE releases SET spec = ?3, beside = ?4, granted = ?5 WHERE endpoint = ?1 AND release = ?2";
    let StoredEndpoint {
        name,
        spec,
        beside,
        granted,
        ..
    } = endpoint;
    connection.execute(sql, (name, release, spec, beside, granted.word()))?;
    Ok(())
}

/// Returns the releases of an endpoint, newest first.
pub(crate) fn all(connection: &Connection, endpoint: &str) -> rusqlite::Result<Vec<ReleaseEntry>> {
    let sql = "SELECT release, at_ms, spec, beside, granted FROM releases WHERE endpoint = ?1 ORDER BY release DESC";
    let mut statement = connection.prepare_cached(sql)?;
    let read = |row: &rusqlite::Row<'_>| {
        Ok(ReleaseEntry {
            release: row.get(0)?,
            at_ms: row.get(1)?,
            spec: row.get(2)?,
            beside: row.get(3)?,
            granted: Granted::of(&row.get::<_, String>(4)?),
        })
    };
    statement.query_map([endpoint], read)?.collect()
}

/// Deletes the releases of an endpoint.
pub(crate) fn forget(connection: &Connection, endpoint: &str) -> rusqlite::Result<()> {
    connection.execute("DELETE FROM releases WHERE endpoint = ?1", [endpoint])?;
    Ok(())
}

pub(crate) fn insert_incarnation(connection: &Connection, begun: &IncarnationRecord) -> rusqlite::Result<()> {
    let sql = "INSERT OR IGNORE INTO incarnations (incarnation, endpoint, release, replica, version, at_ms) \
               VALUES (?1, ?2, ?3, ?4, ?5, ?6)";
    let IncarnationRecord {
        incarnation,
        endpoint,
        release,
        replica,
        version,
        at_ms,
    } = begun;
    let mut statement = connection.prepare_cached(sql)?;
    statement.execute((*incarnation as i64, endpoint, release, replica, version, at_ms))?;
    Ok(())
}

/// Returns the highest number that any incarnation had, 0 without one.
pub(crate) fn last_incarnation(connection: &Connection) -> rusqlite::Result<u64> {
    let sql = "SELECT max(coalesce((SELECT seq FROM sqlite_sequence WHERE name = 'incarnations'), 0), \
                          coalesce((SELECT max(incarnation) FROM incarnations), 0))";
    connection
        .query_row(sql, [], |row| row.get::<_, i64>(0))
        .map(|number| number as u64)
}

/// Deletes incarnations of before a moment, at most so many; returns how many.
pub(crate) fn prune_incarnations(connection: &Connection, oldest_ms: i64, rows: usize) -> rusqlite::Result<usize> {
    let sql = "DELETE FROM incarnations WHERE incarnation IN \
               (SELECT incarnation FROM incarnations ORDER BY incarnation LIMIT ?2) AND at_ms < ?1";
    connection.prepare_cached(sql)?.execute((oldest_ms, rows as i64))
}
