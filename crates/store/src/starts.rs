//! How long starts of workers took, phase by phase.

use rusqlite::{Connection, Row, named_params};

/// Starts that are kept of an endpoint; the oldest are deleted first.
const MOST_KEPT: i64 = 20;

/// A start of a worker.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct StartRecord {
    /// When it ended, in milliseconds since 1970.
    pub at_ms: i64,
    /// The endpoint.
    pub endpoint: String,
    /// The number of its release.
    pub release: u32,
    /// The number of the replica.
    pub replica: u32,
    /// The number of the life that began with it.
    pub incarnation: u64,
    /// How long it took in all.
    pub seconds: f64,
    /// Its phases with their durations, as JSON.
    pub phases: String,
    /// Why the worker did not come to take requests, where it did not.
    pub failure: Option<String>,
}

pub(crate) fn keep(connection: &Connection, start: &StartRecord) -> rusqlite::Result<()> {
    let sql = "INSERT INTO starts (at_ms, endpoint, release, replica, incarnation, seconds, phases, failure) \
               VALUES (:at_ms, :endpoint, :release, :replica, :incarnation, :seconds, :phases, :failure)";
    connection.prepare_cached(sql)?.execute(named_params! {
        ":at_ms": start.at_ms,
        ":endpoint": start.endpoint,
        ":release": start.release,
        ":replica": start.replica,
        ":incarnation": start.incarnation as i64,
        ":seconds": start.seconds,
        ":phases": start.phases,
        ":failure": start.failure,
    })?;
    let sql = "DELETE FROM starts WHERE endpoint = ?1 AND number NOT IN \
               (SELECT number FROM starts WHERE endpoint = ?1 ORDER BY number DESC LIMIT ?2)";
    connection.execute(sql, (&start.endpoint, MOST_KEPT))?;
    Ok(())
}

/// Returns the starts of an endpoint, newest first.
pub(crate) fn of(connection: &Connection, endpoint: &str) -> rusqlite::Result<Vec<StartRecord>> {
    let sql = "SELECT * FROM starts WHERE endpoint = ?1 ORDER BY number DESC";
    connection.prepare_cached(sql)?.query_map([endpoint], read)?.collect()
}

pub(crate) fn forget(connection: &Connection, endpoint: &str) -> rusqlite::Result<()> {
    connection.execute("DELETE FROM starts WHERE endpoint = ?1", [endpoint])?;
    Ok(())
}

fn read(row: &Row<'_>) -> rusqlite::Result<StartRecord> {
    Ok(StartRecord {
        at_ms: row.get("at_ms")?,
        endpoint: row.get("endpoint")?,
        release: row.get("release")?,
        replica: row.get("replica")?,
        incarnation: row.get::<_, i64>("incarnation")? as u64,
        seconds: row.get("seconds")?,
        phases: row.get("phases")?,
        failure: row.get("failure")?,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_newest_starts_of_each_endpoint_are_kept() {
        let mut connection = Connection::open_in_memory().unwrap();
        crate::schema::migrations().to_latest(&mut connection).unwrap();
        let start = |endpoint: &str, incarnation| StartRecord {
            endpoint: endpoint.into(),
            incarnation,
            ..StartRecord::default()
        };
        keep(&connection, &start("other", 1)).unwrap();
        (2..=30).for_each(|incarnation| keep(&connection, &start("desk", incarnation)).unwrap());
        let kept: Vec<u64> = of(&connection, "desk")
            .unwrap()
            .iter()
            .map(|start| start.incarnation)
            .collect();
        assert_eq!(kept, (11..=30).rev().collect::<Vec<_>>());
        assert_eq!(of(&connection, "other").unwrap(), [start("other", 1)]);
        forget(&connection, "desk").unwrap();
        assert_eq!(of(&connection, "desk").unwrap(), []);
    }
}
