//! Load-test runs, each a JSON document.

use rusqlite::{Connection, OptionalExtension};

/// A run as it is kept.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RunRecord {
    /// Its name.
    pub id: String,
    /// When it began, in milliseconds since 1970.
    pub at_ms: i64,
    /// The whole of it, as JSON.
    pub document: String,
}

pub(crate) fn insert(connection: &Connection, run: &RunRecord) -> rusqlite::Result<()> {
    let sql = "INSERT OR REPLACE INTO runs (id, at_ms, document, bytes) VALUES (?1, ?2, ?3, ?4)";
    connection.execute(sql, (&run.id, run.at_ms, &run.document, run.document.len() as i64))?;
    Ok(())
}

/// Deletes a run; returns whether it was there.
pub(crate) fn delete(connection: &Connection, id: &str) -> rusqlite::Result<bool> {
    Ok(connection.execute("DELETE FROM runs WHERE id = ?1", [id])? > 0)
}

/// Returns the bytes of all runs.
pub(crate) fn bytes(connection: &Connection) -> rusqlite::Result<u64> {
    let mut statement = connection.prepare_cached("SELECT coalesce(sum(bytes), 0) FROM runs")?;
    statement
        .query_row([], |row| row.get::<_, i64>(0))
        .map(|bytes| bytes as u64)
}

/// Deletes the oldest run where all of them together are too large, but never the newest; returns how many it deleted.
pub(crate) fn prune(connection: &Connection, most_bytes: u64) -> rusqlite::Result<usize> {
    if bytes(connection)? <= most_bytes {
        return Ok(0);
    }
    let sql = "DELETE FROM runs WHERE id = (SELECT id FROM runs ORDER BY at_ms, id LIMIT 1) AND (SELECT count(*) FROM runs) > 1";
    connection.prepare_cached(sql)?.execute([])
}

pub(crate) fn latest(connection: &Connection, most: usize) -> rusqlite::Result<Vec<RunRecord>> {
    let mut statement = connection.prepare_cached("SELECT * FROM runs ORDER BY at_ms DESC LIMIT ?1")?;
    let rows = statement.query_map([most as i64], read)?;
    rows.collect()
}

/// Returns the newest runs whose document has a name.
pub(crate) fn named(connection: &Connection, name: &str, most: usize) -> rusqlite::Result<Vec<RunRecord>> {
    let sql = "SELECT * FROM runs WHERE document ->> '$.name' = ?1 ORDER BY at_ms DESC LIMIT ?2";
    let mut statement = connection.prepare_cached(sql)?;
    let rows = statement.query_map((name, most as i64), read)?;
    rows.collect()
}

pub(crate) fn one(connection: &Connection, id: &str) -> rusqlite::Result<Option<RunRecord>> {
    let mut statement = connection.prepare_cached("SELECT * FROM runs WHERE id = ?1")?;
    statement.query_row([id], read).optional()
}

fn read(row: &rusqlite::Row<'_>) -> rusqlite::Result<RunRecord> {
    Ok(RunRecord {
        id: row.get("id")?,
        at_ms: row.get("at_ms")?,
        document: row.get("document")?,
    })
}
