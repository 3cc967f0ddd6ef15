//! What happened to endpoints, and who did it.

use rusqlite::{Connection, Row, named_params};

/// Events that are kept at most; the oldest are deleted first.
const MOST_KEPT: i64 = 50_000;
/// Longest reason that is kept, in bytes.
const LONGEST: usize = 2_000;

/// Something that happened to an endpoint.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct EventRecord {
    /// Its number; later ones have higher numbers. Of no meaning before it is kept.
    pub number: i64,
    /// When, in milliseconds since 1970.
    pub at_ms: i64,
    /// The endpoint.
    pub endpoint: String,
    /// The number of its release.
    pub release: u32,
    /// The number of the replica, 0 where it is none in particular.
    pub replica: u32,
    /// What, in one word.
    pub what: String,
    /// Who did it: the name of a key, or the service itself.
    pub who: String,
    /// Why, and how, in words.
    pub why: String,
}

/// Which events are wanted: all conditions have to hold.
#[derive(Clone, Debug, Default)]
pub struct EventFilter {
    /// Only those of this endpoint.
    pub endpoint: Option<String>,
    /// Only those of this kind.
    pub what: Option<String>,
    /// Only those from this moment on, in milliseconds since 1970.
    pub from_ms: Option<i64>,
    /// Only those with a higher number.
    pub after: i64,
}

pub(crate) fn insert(connection: &Connection, event: &EventRecord) -> rusqlite::Result<()> {
    let sql = "INSERT INTO events (at_ms, endpoint, release, replica, what, who, why) \
               VALUES (:at_ms, :endpoint, :release, :replica, :what, :who, :why)";
    connection.prepare_cached(sql)?.execute(named_params! {
        ":at_ms": event.at_ms,
        ":endpoint": event.endpoint,
        ":release": event.release,
        ":replica": event.replica,
        ":what": event.what,
        ":who": event.who,
        ":why": cut(&event.why),
    })?;
    Ok(())
}

/// Returns as much of a reason as is kept.
fn cut(why: &str) -> &str {
    let mut end = why.len().min(LONGEST);
    while !why.is_char_boundary(end) {
        end -= 1;
    }
    &why[..end]
}

/// Returns the newest events that pass a filter, newest first.
pub(crate) fn find(connection: &Connection, filter: &EventFilter, most: usize) -> rusqlite::Result<Vec<EventRecord>> {
    let sql = "SELECT * FROM events WHERE number > :after AND (:endpoint IS NULL OR endpoint = :endpoint) \
               AND (:what IS NULL OR what = :what) AND (:from_ms IS NULL OR at_ms >= :from_ms) \
               ORDER BY number DESC LIMIT :most";
    let mut statement = connection.prepare_cached(sql)?;
    let wanted = named_params! {
        ":after": filter.after,
        ":endpoint": filter.endpoint,
        ":what": filter.what,
        ":from_ms": filter.from_ms,
        ":most": most as i64,
    };
    statement.query_map(wanted, read)?.collect()
}

/// Deletes events of before a moment, and the oldest of too many; at most so many. Returns how many.
pub(crate) fn prune(connection: &Connection, oldest_ms: i64, rows: usize) -> rusqlite::Result<usize> {
    let sql = "DELETE FROM events WHERE number IN (SELECT number FROM events \
               WHERE at_ms < ?1 OR number <= (SELECT max(number) FROM events) - ?2 ORDER BY number LIMIT ?3)";
    connection
        .prepare_cached(sql)?
        .execute((oldest_ms, MOST_KEPT, rows as i64))
}

fn read(row: &Row<'_>) -> rusqlite::Result<EventRecord> {
    Ok(EventRecord {
        number: row.get("number")?,
        at_ms: row.get("at_ms")?,
        endpoint: row.get("endpoint")?,
        release: row.get("release")?,
        replica: row.get("replica")?,
        what: row.get("what")?,
        who: row.get("who")?,
        why: row.get("why")?,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn connection() -> Connection {
        let mut connection = Connection::open_in_memory().unwrap();
        crate::schema::migrations().to_latest(&mut connection).unwrap();
        connection
    }

    fn event(at_ms: i64, endpoint: &str, what: &str) -> EventRecord {
        EventRecord {
            at_ms,
            endpoint: endpoint.into(),
            what: what.into(),
            why: "boats".into(),
            ..EventRecord::default()
        }
    }

    #[test]
    fn events_are_found_newest_first_by_what_is_asked() {
        let connection = connection();
        for (at, endpoint, what) in [
            (1, "a", "deployed"),
            (2, "b", "deployed"),
            (3, "a", "removed"),
            (4, "a", "deployed"),
        ] {
            insert(&connection, &event(at, endpoint, what)).unwrap();
        }
        let found = |filter: EventFilter, most| -> Vec<i64> {
            let found = find(&connection, &filter, most).unwrap();
            found.iter().map(|event| event.at_ms).collect()
        };
        let of = |endpoint: &str| EventFilter {
            endpoint: Some(endpoint.into()),
            ..EventFilter::default()
        };
        assert_eq!(found(EventFilter::default(), 3), [4, 3, 2]);
        assert_eq!(found(of("a"), 10), [4, 3, 1]);
        let deployed = EventFilter {
            what: Some("deployed".into()),
            ..of("a")
        };
        assert_eq!(found(deployed, 10), [4, 1]);
        assert_eq!(found(EventFilter { after: 3, ..of("a") }, 10), [4]);
        assert_eq!(
            found(
                EventFilter {
                    from_ms: Some(3),
                    ..of("a")
                },
                10
            ),
            [4, 3]
        );
        assert_eq!(prune(&connection, 3, 1).unwrap(), 1);
        assert_eq!(prune(&connection, 3, 9).unwrap(), 1);
        assert_eq!(found(EventFilter::default(), 10), [4, 3]);
    }

    #[test]
    fn a_long_reason_is_cut_between_letters() {
        let connection = connection();
        let why = "é".repeat(LONGEST);
        insert(
            &connection,
            &EventRecord {
                why,
                ..event(1, "a", "deployed")
            },
        )
        .unwrap();
        let kept = find(&connection, &EventFilter::default(), 1).unwrap().remove(0);
        assert_eq!(kept.why, "é".repeat(LONGEST / 2));
    }
}
