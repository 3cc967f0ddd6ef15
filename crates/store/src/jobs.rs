//! Long work of the service: what was done, by whom, and what came of it.

use crate::open_calls::INTERRUPTED;
use rusqlite::{Connection, OptionalExtension, Row, named_params};

/// Jobs that are kept at most; the oldest are deleted first.
const MOST_KEPT: i64 = 1_000;
/// Longest log that is kept of a job, in bytes: its end.
const LONGEST_LOG: usize = 64 << 10;

/// A job.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct JobRecord {
    /// Its number; later ones have higher numbers.
    pub number: i64,
    /// The time of the request, in milliseconds since 1970.
    pub at_ms: i64,
    /// Its kind, in one word.
    pub kind: String,
    /// Its title, for people.
    pub name: String,
    /// Its endpoint; empty for a job without one.
    pub endpoint: String,
    /// Its author.
    pub who: String,
    /// Its state, in one word.
    pub state: String,
    /// When it ended, in milliseconds since 1970.
    pub ended_ms: Option<i64>,
    /// Its result: a place to find it, or the reason of the failure.
    pub outcome: String,
    /// Its log.
    pub log: String,
}

/// The end of a job.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct JobEnd {
    /// The job.
    pub number: i64,
    /// How it ended, in one word.
    pub state: String,
    /// The same for people.
    pub outcome: String,
    /// Its log.
    pub log: String,
    /// When, in milliseconds since 1970.
    pub at_ms: i64,
}

/// Keeps a new job under its number.
pub(crate) fn begin(connection: &Connection, job: &JobRecord) -> rusqlite::Result<()> {
    let sql = "INSERT INTO jobs (number, at_ms, kind, name, endpoint, who, state, ended_ms, outcome, log) \
               VALUES (:number, :at_ms, :kind, :name, :endpoint, :who, :state, :ended_ms, :outcome, :log)";
    connection.prepare_cached(sql)?.execute(named_params! {
        ":number": job.number,
        ":at_ms": job.at_ms,
        ":kind": job.kind,
        ":name": job.name,
        ":endpoint": job.endpoint,
        ":who": job.who,
        ":state": job.state,
        ":ended_ms": job.ended_ms,
        ":outcome": job.outcome,
        ":log": tail(&job.log),
    })?;
    let sql = "DELETE FROM jobs WHERE number <= ?1 AND number NOT IN (SELECT number FROM changes)";
    connection.execute(sql, [job.number - MOST_KEPT])?;
    Ok(())
}

/// Returns the highest number that a job has had.
pub(crate) fn last(connection: &Connection) -> rusqlite::Result<i64> {
    let sql = "SELECT MAX(COALESCE((SELECT seq FROM sqlite_sequence WHERE name = 'jobs'), 0), \
               COALESCE((SELECT MAX(number) FROM jobs), 0))";
    connection.query_row(sql, [], |row| row.get(0))
}

/// Notes how a job ended.
pub(crate) fn end(connection: &Connection, end: &JobEnd) -> rusqlite::Result<()> {
    let sql = "UPDATE jobs SET state = ?2, ended_ms = ?3, outcome = ?4, log = ?5 WHERE number = ?1";
    let JobEnd {
        number,
        state,
        outcome,
        log,
        at_ms,
    } = end;
    connection.execute(sql, (number, state, at_ms, outcome, tail(log)))?;
    Ok(())
}

/// Keeps how far a job is.
pub(crate) fn update(connection: &Connection, job: &JobRecord) -> rusqlite::Result<()> {
    let sql = "UPDATE jobs SET state = ?2, ended_ms = ?3, outcome = ?4, log = ?5 WHERE number = ?1";
    let JobRecord {
        number,
        state,
        ended_ms,
        outcome,
        log,
        ..
    } = job;
    connection.execute(sql, (number, state, ended_ms, outcome, tail(log)))?;
    Ok(())
}

/// Marks jobs in these states as interrupted at a moment, except changes of endpoints, which resume.
pub(crate) fn interrupt(connection: &Connection, states: [&str; 2], now_ms: i64) -> rusqlite::Result<()> {
    let sql = "UPDATE jobs SET state = ?1, ended_ms = ?2 WHERE state IN (?3, ?4) \
               AND number NOT IN (SELECT number FROM changes)";
    connection.execute(sql, (INTERRUPTED, now_ms, states[0], states[1]))?;
    Ok(())
}

/// Returns the newest jobs of a kind, or of all of them, newest first.
pub(crate) fn latest(connection: &Connection, kind: Option<&str>, most: usize) -> rusqlite::Result<Vec<JobRecord>> {
    let sql = "SELECT * FROM jobs WHERE ?1 IS NULL OR kind = ?1 ORDER BY number DESC LIMIT ?2";
    let mut statement = connection.prepare_cached(sql)?;
    statement.query_map((kind, most as i64), read)?.collect()
}

pub(crate) fn one(connection: &Connection, number: i64) -> rusqlite::Result<Option<JobRecord>> {
    let mut statement = connection.prepare_cached("SELECT * FROM jobs WHERE number = ?1")?;
    statement.query_row([number], read).optional()
}

/// Returns the end of a log, as much as is kept.
fn tail(log: &str) -> &str {
    let mut start = log.len().saturating_sub(LONGEST_LOG);
    while !log.is_char_boundary(start) {
        start += 1;
    }
    &log[start..]
}

fn read(row: &Row<'_>) -> rusqlite::Result<JobRecord> {
    Ok(JobRecord {
        number: row.get("number")?,
        at_ms: row.get("at_ms")?,
        kind: row.get("kind")?,
        name: row.get("name")?,
        endpoint: row.get("endpoint")?,
        who: row.get("who")?,
        state: row.get("state")?,
        ended_ms: row.get("ended_ms")?,
        outcome: row.get("outcome")?,
        log: row.get("log")?,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_job_is_kept_with_the_end_of_its_log_and_what_was_under_way_is_interrupted() {
        let mut connection = Connection::open_in_memory().unwrap();
        crate::schema::migrations().to_latest(&mut connection).unwrap();
        let job = |number: i64, kind: &str, state: &str| JobRecord {
            number,
            kind: kind.into(),
            state: state.into(),
            log: "ä".repeat(40 << 10),
            ..JobRecord::default()
        };
        let (first, second) = (last(&connection).unwrap() + 1, 2);
        begin(&connection, &job(first, "build", "running")).unwrap();
        begin(&connection, &job(second, "load", "queued")).unwrap();
        assert_eq!(last(&connection).unwrap(), second);
        let done = JobRecord {
            outcome: "there".into(),
            ended_ms: Some(7),
            ..job(first, "build", "done")
        };
        update(&connection, &done).unwrap();
        interrupt(&connection, ["queued", "running"], 9).unwrap();
        let kept = one(&connection, first).unwrap().unwrap();
        assert_eq!(
            (&*kept.state, &*kept.outcome, kept.ended_ms),
            ("done", "there", Some(7))
        );
        assert!(kept.log.len() <= LONGEST_LOG && kept.log.chars().all(|c| c == 'ä'));
        let kept = one(&connection, second).unwrap().unwrap();
        assert_eq!((&*kept.state, kept.ended_ms), (INTERRUPTED, Some(9)));
        assert_eq!(latest(&connection, Some("build"), 9).unwrap().len(), 1);
        let numbers: Vec<i64> = latest(&connection, None, 9)
            .unwrap()
            .iter()
            .map(|job| job.number)
            .collect();
        assert_eq!(numbers, [second, first]);
    }
}
