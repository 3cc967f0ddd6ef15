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
    let sql = "INSERT OR REPLACE INTO runs (id, at_ms, document) VALUES (?1, ?2, ?3)";
    connection.execute(sql, (&run.id, run.at_ms, &run.document))?;
    Ok(())
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
