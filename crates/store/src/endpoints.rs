//! What endpoints are to be: kept until somebody removes them, so that the next service brings them back.

use rusqlite::{Connection, OptionalExtension, Row};

/// The desired state of an endpoint.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct StoredEndpoint {
    /// Its name.
    pub name: String,
    /// Its spec, as it was written.
    pub spec: String,
    /// The folder that paths in the spec begin at.
    pub beside: String,
    /// Whether the next service serves it.
    pub state: StoredState,
    /// Which files it may name.
    pub granted: Granted,
    /// The number of its release.
    pub release: u32,
}

/// Which files of this machine an endpoint may name, beyond those beneath a root.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub enum Granted {
    /// All that its spec names: the service's own user wrote it.
    #[default]
    All,
    /// These, which the service's own user named before another caller changed the spec.
    Only(Vec<String>),
}

impl Granted {
    /// Returns how it is kept.
    pub(crate) fn word(&self) -> String {
        match self {
            Granted::All => "*".into(),
            Granted::Only(paths) => serde_json::to_string(paths).expect("texts are JSON"),
        }
    }

    /// Returns the one of a word; nothing is granted by one that cannot be read.
    pub(crate) fn of(word: &str) -> Granted {
        match word {
            "*" => Granted::All,
            paths => Granted::Only(serde_json::from_str(paths).unwrap_or_default()),
        }
    }
}

/// Whether an endpoint is served.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum StoredState {
    /// It is.
    #[default]
    Served,
    /// Somebody has stopped it.
    Stopped,
    /// The next call starts it.
    Parked,
}

impl StoredState {
    /// Returns its word, as it is kept.
    fn name(self) -> &'static str {
        match self {
            StoredState::Served => "served",
            StoredState::Stopped => "stopped",
            StoredState::Parked => "parked",
        }
    }

    /// Returns the one of a word; what a later version has written is served.
    fn of(word: &str) -> StoredState {
        match word {
            "stopped" => StoredState::Stopped,
            "parked" => StoredState::Parked,
            _ => StoredState::Served,
        }
    }
}

pub(crate) fn keep(connection: &Connection, endpoint: &StoredEndpoint) -> rusqlite::Result<()> {
    let StoredEndpoint {
        name,
        spec,
        beside,
        state,
        granted,
        release,
    } = endpoint;
    let sql = "INSERT OR REPLACE INTO endpoints (name, spec, beside, standing, granted, release) VALUES (?1, ?2, ?3, ?4, ?5, ?6)";
    connection.execute(sql, (name, spec, beside, state.name(), granted.word(), release))?;
    Ok(())
}

/// Notes whether an endpoint is served; returns whether it is kept at all.
pub(crate) fn set_state(connection: &Connection, name: &str, state: StoredState) -> rusqlite::Result<bool> {
    let sql = "UPDATE endpoints SET standing = ?2 WHERE name = ?1";
    Ok(connection.execute(sql, (name, state.name()))? > 0)
}

pub(crate) fn forget(connection: &Connection, name: &str) -> rusqlite::Result<()> {
    connection.execute("DELETE FROM endpoints WHERE name = ?1", [name])?;
    Ok(())
}

/// Keeps an endpoint and its releases under another name, unless there is one of that name.
pub(crate) fn rename(connection: &Connection, from: &str, to: &str) -> rusqlite::Result<()> {
    connection.execute("UPDATE OR IGNORE endpoints SET name = ?2 WHERE name = ?1", [from, to])?;
    let sql = "UPDATE OR IGNORE releases SET endpoint = ?2 WHERE endpoint = ?1";
    connection.execute(sql, [from, to])?;
    Ok(())
}

pub(crate) fn all(connection: &Connection) -> rusqlite::Result<Vec<StoredEndpoint>> {
    let mut statement = connection.prepare("SELECT * FROM endpoints ORDER BY name")?;
    statement.query_map([], read)?.collect()
}

pub(crate) fn one(connection: &Connection, name: &str) -> rusqlite::Result<Option<StoredEndpoint>> {
    let sql = "SELECT * FROM endpoints WHERE name = ?1";
    connection.query_row(sql, [name], read).optional()
}

fn read(row: &Row<'_>) -> rusqlite::Result<StoredEndpoint> {
    Ok(StoredEndpoint {
        name: row.get("name")?,
        spec: row.get("spec")?,
        beside: row.get("beside")?,
        state: StoredState::of(&row.get::<_, String>("standing")?),
        granted: Granted::of(&row.get::<_, String>("granted")?),
        release: row.get("release")?,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_endpoint_is_kept_as_it_was_last_wanted_until_it_is_forgotten() {
        let mut connection = Connection::open_in_memory().unwrap();
        crate::schema::migrations().to_latest(&mut connection).unwrap();
        let endpoint = |name: &str, spec: &str| StoredEndpoint {
            name: name.into(),
            spec: spec.into(),
            beside: "/harbour".into(),
            state: StoredState::Served,
            granted: Granted::Only(vec!["/harbour/a".into()]),
            release: 4,
        };
        keep(&connection, &endpoint("b", "model = \"one\"")).unwrap();
        keep(&connection, &endpoint("a", "")).unwrap();
        keep(&connection, &endpoint("b", "model = \"two\"")).unwrap();
        assert_eq!(
            all(&connection).unwrap(),
            [endpoint("a", ""), endpoint("b", "model = \"two\"")]
        );
        for state in [StoredState::Stopped, StoredState::Parked, StoredState::Served] {
            assert!(set_state(&connection, "b", state).unwrap());
            assert!(!set_state(&connection, "c", state).unwrap());
            assert_eq!(one(&connection, "b").unwrap().unwrap().state, state);
        }
        forget(&connection, "b").unwrap();
        assert_eq!(one(&connection, "b").unwrap(), None);
    }
}
