//! Changes of endpoints that are under way, and the desired state that they lead to: each step is one transaction, and the same step again
//! changes nothing.

use crate::endpoints::{self, Granted, StoredEndpoint, StoredState};
use crate::jobs::{self, JobEnd, JobRecord};
use crate::{releases, starts};
use rusqlite::{Connection, OptionalExtension, Row};

/// A change of an endpoint that is under way.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct ChangeRecord {
    /// The number of its job.
    pub number: i64,
    /// The endpoint.
    pub endpoint: String,
    /// Its kind, in one word.
    pub kind: String,
    /// The spec of a deployment, as it was written.
    pub spec: String,
    /// The folder that paths in the spec begin at.
    pub beside: String,
    /// Which files the spec may name.
    pub granted: Granted,
    /// The release that a deployment begins from.
    pub from_release: Option<u32>,
    /// Whether the replica that is there may end first.
    pub with_pause: bool,
    /// How long calls have to end, in milliseconds.
    pub within_ms: Option<i64>,
}

/// The immediate effect of a change on the desired state.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum AtOnce {
    /// Nothing.
    Nothing,
    /// The endpoint is stopped.
    Stops,
    /// Nothing is kept of the endpoint.
    Removes,
}

/// The desired state of an endpoint, with the release that it is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct DesiredRecord {
    /// Its record; the release has a number.
    pub kept: StoredEndpoint,
    /// The identity of the release, as JSON.
    pub identity: String,
}

/// Notes a change as under way, with its job, in the place of one that was.
pub(crate) fn begin(
    connection: &Connection,
    change: &ChangeRecord,
    job: &JobRecord,
    at_once: AtOnce,
    replaced: Option<&JobEnd>,
) -> rusqlite::Result<()> {
    if jobs::one(connection, change.number)?.is_some() {
        return Ok(());
    }
    jobs::begin(connection, job)?;
    if let Some(end) = replaced {
        jobs::end(connection, end)?;
    }
    let ChangeRecord {
        number,
        endpoint,
        kind,
        spec,
        beside,
        granted,
        from_release,
        with_pause,
        within_ms,
    } = change;
    match at_once {
        AtOnce::Nothing => {}
        AtOnce::Stops => _ = endpoints::set_state(connection, endpoint, StoredState::Stopped)?,
        AtOnce::Removes => forget(connection, endpoint)?,
    }
    let sql = "INSERT OR REPLACE INTO changes (endpoint, number, kind, spec, beside, granted, from_release, with_pause, within_ms) \
               VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9)";
    let granted = granted.word();
    let values = rusqlite::params![
        endpoint,
        number,
        kind,
        spec,
        beside,
        granted,
        from_release,
        with_pause,
        within_ms
    ];
    connection.execute(sql, values)?;
    Ok(())
}

/// Notes how a change ended and, where that is another one, what the endpoint is from now on.
pub(crate) fn end(
    connection: &Connection,
    endpoint: &str,
    end: &JobEnd,
    desired: Option<&DesiredRecord>,
) -> rusqlite::Result<()> {
    jobs::end(connection, end)?;
    let sql = "DELETE FROM changes WHERE endpoint = ?1 AND number = ?2";
    connection.execute(sql, (endpoint, end.number))?;
    desired.map_or(Ok(()), |desired| become_(connection, desired, end.at_ms))
}

/// Notes what an endpoint is from now on.
pub(crate) fn become_(connection: &Connection, desired: &DesiredRecord, now_ms: i64) -> rusqlite::Result<()> {
    let DesiredRecord { kept, identity } = desired;
    releases::insert(connection, &kept.name, kept.release, identity, now_ms)?;
    releases::describe(connection, kept, kept.release)?;
    endpoints::keep(connection, kept)
}

/// Forgets an endpoint with its releases and its starts: a later endpoint of the same name starts with release 1.
pub(crate) fn forget(connection: &Connection, name: &str) -> rusqlite::Result<()> {
    starts::forget(connection, name)?;
    releases::forget(connection, name)?;
    endpoints::forget(connection, name)
}

/// Returns all changes that are under way.
pub(crate) fn all(connection: &Connection) -> rusqlite::Result<Vec<ChangeRecord>> {
    let mut statement = connection.prepare("SELECT * FROM changes ORDER BY number")?;
    statement.query_map([], read)?.collect()
}

/// Returns what tells the release of an endpoint from others, as JSON, where it is known.
pub(crate) fn identity(connection: &Connection, endpoint: &str, release: u32) -> rusqlite::Result<Option<String>> {
    let sql = "SELECT settings FROM releases WHERE endpoint = ?1 AND release = ?2";
    connection
        .query_row(sql, (endpoint, release), |row| row.get(0))
        .optional()
}

fn read(row: &Row<'_>) -> rusqlite::Result<ChangeRecord> {
    Ok(ChangeRecord {
        number: row.get("number")?,
        endpoint: row.get("endpoint")?,
        kind: row.get("kind")?,
        spec: row.get("spec")?,
        beside: row.get("beside")?,
        granted: Granted::of(&row.get::<_, String>("granted")?),
        from_release: row.get("from_release")?,
        with_pause: row.get("with_pause")?,
        within_ms: row.get("within_ms")?,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn database() -> Connection {
        let mut connection = Connection::open_in_memory().unwrap();
        crate::schema::migrations().to_latest(&mut connection).unwrap();
        connection
    }

    fn change(number: i64, kind: &str) -> (ChangeRecord, JobRecord) {
        let change = ChangeRecord {
            number,
            endpoint: "desk".into(),
            kind: kind.into(),
            spec: "model = \"one\"".into(),
            granted: Granted::Only(vec!["/harbour/a".into()]),
            from_release: Some(3),
            within_ms: Some(500),
            ..ChangeRecord::default()
        };
        let job = JobRecord {
            number,
            kind: kind.into(),
            state: "running".into(),
            endpoint: "desk".into(),
            ..JobRecord::default()
        };
        (change, job)
    }

    fn over(number: i64, state: &str) -> JobEnd {
        JobEnd {
            number,
            state: state.into(),
            outcome: "so it is".into(),
            log: "a line\n".into(),
            at_ms: 9,
        }
    }

    fn desired(release: u32, state: StoredState) -> DesiredRecord {
        DesiredRecord {
            kept: StoredEndpoint {
                name: "desk".into(),
                spec: "model = \"one\"".into(),
                state,
                release,
                ..StoredEndpoint::default()
            },
            identity: format!("{{\"number\":{release}}}"),
        }
    }

    #[test]
    fn a_change_is_under_way_until_it_ends_and_the_same_step_again_changes_nothing() {
        let connection = database();
        let (first, job) = change(7, "deploy");
        for _ in 0..2 {
            begin(&connection, &first, &job, AtOnce::Nothing, None).unwrap();
            assert_eq!(all(&connection).unwrap(), std::slice::from_ref(&first));
        }
        for _ in 0..2 {
            let desired = desired(1, StoredState::Served);
            end(&connection, "desk", &over(7, "done"), Some(&desired)).unwrap();
            assert!(all(&connection).unwrap().is_empty());
            assert_eq!(endpoints::one(&connection, "desk").unwrap(), Some(desired.kept));
            assert_eq!(identity(&connection, "desk", 1).unwrap(), Some(desired.identity));
        }
        let job = jobs::one(&connection, 7).unwrap().unwrap();
        assert_eq!(
            (&*job.state, &*job.outcome, job.ended_ms),
            ("done", "so it is", Some(9))
        );
        // A step that comes late does not bring back what has ended.
        begin(&connection, &first, &job, AtOnce::Removes, None).unwrap();
        assert!(all(&connection).unwrap().is_empty());
        assert!(endpoints::one(&connection, "desk").unwrap().is_some());
    }

    #[test]
    fn a_stop_holds_at_once_and_a_removal_leaves_nothing() {
        let connection = database();
        become_(&connection, &desired(2, StoredState::Served), 1).unwrap();
        let (stop, job) = change(8, "stop");
        begin(&connection, &stop, &job, AtOnce::Stops, None).unwrap();
        let state_of = |connection: &Connection| endpoints::one(connection, "desk").unwrap().map(|kept| kept.state);
        assert_eq!(state_of(&connection), Some(StoredState::Stopped));
        let (removal, job) = change(9, "remove");
        begin(&connection, &removal, &job, AtOnce::Removes, Some(&over(8, "replaced"))).unwrap();
        assert_eq!(jobs::one(&connection, 8).unwrap().unwrap().state, "replaced");
        assert_eq!(all(&connection).unwrap(), [removal]);
        assert_eq!(state_of(&connection), None);
        assert_eq!(releases::all(&connection, "desk").unwrap(), []);
    }
}
