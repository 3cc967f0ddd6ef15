//! Builds that a service has made of models, and who uses them.

use rusqlite::{Connection, OptionalExtension, Row};

/// A build.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct BuildRecord {
    /// What it is made of, as a digest: the name of its folder.
    pub digest: String,
    /// Where its source was.
    pub source: String,
    /// The precision of its weights, for people.
    pub precision: String,
    /// When it was made, in milliseconds since 1970.
    pub at_ms: i64,
    /// Bytes of its folder.
    pub bytes: u64,
    /// Endpoints with a release that uses it, in the order of their names.
    pub users: Vec<String>,
}

/// Keeps a build that was made.
pub(crate) fn keep(connection: &Connection, build: &BuildRecord) -> rusqlite::Result<()> {
    let sql = "INSERT OR REPLACE INTO builds (digest, source, precision, at_ms, bytes) VALUES (?1, ?2, ?3, ?4, ?5)";
    let BuildRecord {
        digest,
        source,
        precision,
        at_ms,
        bytes,
        ..
    } = build;
    connection.execute(sql, (digest, source, precision, at_ms, *bytes as i64))?;
    Ok(())
}

/// Notes that a release of an endpoint uses a build.
pub(crate) fn note_use(connection: &Connection, digest: &str, endpoint: &str, release: u32) -> rusqlite::Result<()> {
    let sql = "INSERT OR IGNORE INTO build_uses (digest, endpoint, release) VALUES (?1, ?2, ?3)";
    connection.execute(sql, (digest, endpoint, release))?;
    Ok(())
}

/// How long a build may have no user before it is taken for one that nobody will use, in milliseconds: who has it made is no user yet.
const UNUSED_FOR: i64 = 3_600_000;

/// Forgets what an endpoint uses; returns the builds that nobody uses any more, and forgets them, too. Those that are held stay.
pub(crate) fn release(
    connection: &Connection,
    endpoint: &str,
    held: &[String],
    now_ms: i64,
) -> rusqlite::Result<Vec<BuildRecord>> {
    let mut unused = all(connection)?;
    unused.retain(|build| !held.contains(&build.digest));
    connection.execute("DELETE FROM build_uses WHERE endpoint = ?1", [endpoint])?;
    unused.retain(|build| match build.users.as_slice() {
        [only] => only == endpoint,
        [] => build.at_ms < now_ms - UNUSED_FOR,
        _ => false,
    });
    unused.iter_mut().for_each(|build| build.users.clear());
    for build in &unused {
        connection.execute("DELETE FROM builds WHERE digest = ?1", [&build.digest])?;
    }
    Ok(unused)
}

/// Returns all builds, newest first.
pub(crate) fn all(connection: &Connection) -> rusqlite::Result<Vec<BuildRecord>> {
    let sql = "SELECT * FROM builds ORDER BY at_ms DESC, digest";
    let mut builds: Vec<BuildRecord> = connection
        .prepare_cached(sql)?
        .query_map([], read)?
        .collect::<Result<_, _>>()?;
    let sql = "SELECT DISTINCT endpoint FROM build_uses WHERE digest = ?1 ORDER BY endpoint";
    let mut users = connection.prepare_cached(sql)?;
    for build in &mut builds {
        let names = users.query_map([&build.digest], |row| row.get(0))?;
        build.users = names.collect::<Result<_, _>>()?;
    }
    Ok(builds)
}

/// Returns the digest of a file that was kept with its stamp.
pub(crate) fn digest(connection: &Connection, path: &str, stamp: &str) -> rusqlite::Result<Option<String>> {
    let sql = "SELECT digest FROM digests WHERE path = ?1 AND stamp = ?2";
    connection.query_row(sql, (path, stamp), |row| row.get(0)).optional()
}

/// Keeps the digest of a file with its stamp.
pub(crate) fn keep_digest(connection: &Connection, path: &str, stamp: &str, digest: &str) -> rusqlite::Result<()> {
    let sql = "INSERT OR REPLACE INTO digests (path, stamp, digest) VALUES (?1, ?2, ?3)";
    connection.execute(sql, (path, stamp, digest))?;
    Ok(())
}

fn read(row: &Row<'_>) -> rusqlite::Result<BuildRecord> {
    Ok(BuildRecord {
        digest: row.get("digest")?,
        source: row.get("source")?,
        precision: row.get("precision")?,
        at_ms: row.get("at_ms")?,
        bytes: row.get::<_, i64>("bytes")? as u64,
        users: Vec::new(),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_build_goes_with_its_last_user_and_digests_hold_as_long_as_their_stamp() {
        let mut connection = Connection::open_in_memory().unwrap();
        crate::schema::migrations().to_latest(&mut connection).unwrap();
        let build = |digest: &str, users: &[&str]| BuildRecord {
            digest: digest.into(),
            users: users.iter().map(|&user| user.into()).collect(),
            ..BuildRecord::default()
        };
        keep(&connection, &build("one", &[])).unwrap();
        keep(&connection, &build("two", &[])).unwrap();
        for (digest, endpoint, release) in [
            ("one", "desk", 1),
            ("one", "desk", 2),
            ("one", "dock", 1),
            ("two", "desk", 3),
        ] {
            note_use(&connection, digest, endpoint, release).unwrap();
            note_use(&connection, digest, endpoint, release).unwrap();
        }
        assert_eq!(
            all(&connection).unwrap(),
            [build("one", &["desk", "dock"]), build("two", &["desk"])]
        );
        assert_eq!(release(&connection, "desk", &[], 9).unwrap(), [build("two", &[])]);
        assert_eq!(all(&connection).unwrap(), [build("one", &["dock"])]);
        assert_eq!(release(&connection, "dock", &[], 9).unwrap(), [build("one", &[])]);
        keep(&connection, &build("left", &[])).unwrap();
        assert_eq!(
            release(&connection, "pier", &[], UNUSED_FOR).unwrap(),
            [],
            "somebody may be about to use it"
        );
        assert_eq!(
            release(&connection, "pier", &["left".into()], UNUSED_FOR + 1).unwrap(),
            [],
            "somebody holds it"
        );
        assert_eq!(
            release(&connection, "pier", &[], UNUSED_FOR + 1).unwrap(),
            [build("left", &[])]
        );
        keep_digest(&connection, "/a", "then", "d1").unwrap();
        assert_eq!(digest(&connection, "/a", "then").unwrap().as_deref(), Some("d1"));
        assert_eq!(digest(&connection, "/a", "now").unwrap(), None);
    }
}
