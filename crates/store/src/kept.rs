//! What endpoints are to be: kept until somebody removes them, so that the next service brings them back.

use rusqlite::{Connection, OptionalExtension, Row};

/// What an endpoint is to be.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct KeptEndpoint {
    /// Its name.
    pub name: String,
    /// Its spec, as it was written.
    pub spec: String,
    /// The folder that paths in the spec begin at.
    pub beside: String,
    /// Whether somebody has stopped it.
    pub is_stopped: bool,
}

pub(crate) fn keep(connection: &Connection, endpoint: &KeptEndpoint) -> rusqlite::Result<()> {
    let KeptEndpoint {
        name,
        spec,
        beside,
        is_stopped,
    } = endpoint;
    let sql = "INSERT OR REPLACE INTO endpoints (name, spec, beside, stopped) VALUES (?1, ?2, ?3, ?4)";
    connection.execute(sql, (name, spec, beside, is_stopped))?;
    Ok(())
}

/// Notes whether an endpoint is stopped; returns whether it is kept at all.
pub(crate) fn stop(connection: &Connection, name: &str, is_stopped: bool) -> rusqlite::Result<bool> {
    let sql = "UPDATE endpoints SET stopped = ?2 WHERE name = ?1";
    Ok(connection.execute(sql, (name, is_stopped))? > 0)
}

pub(crate) fn forget(connection: &Connection, name: &str) -> rusqlite::Result<()> {
    connection.execute("DELETE FROM endpoints WHERE name = ?1", [name])?;
    Ok(())
}

pub(crate) fn all(connection: &Connection) -> rusqlite::Result<Vec<KeptEndpoint>> {
    let mut statement = connection.prepare("SELECT * FROM endpoints ORDER BY name")?;
    statement.query_map([], read)?.collect()
}

pub(crate) fn one(connection: &Connection, name: &str) -> rusqlite::Result<Option<KeptEndpoint>> {
    let sql = "SELECT * FROM endpoints WHERE name = ?1";
    connection.query_row(sql, [name], read).optional()
}

fn read(row: &Row<'_>) -> rusqlite::Result<KeptEndpoint> {
    Ok(KeptEndpoint {
        name: row.get("name")?,
        spec: row.get("spec")?,
        beside: row.get("beside")?,
        is_stopped: row.get("stopped")?,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_endpoint_is_kept_as_it_was_last_wanted_until_it_is_forgotten() {
        let mut connection = Connection::open_in_memory().unwrap();
        crate::schema::migrations().to_latest(&mut connection).unwrap();
        let endpoint = |name: &str, spec: &str| KeptEndpoint {
            name: name.into(),
            spec: spec.into(),
            beside: "/harbour".into(),
            is_stopped: false,
        };
        keep(&connection, &endpoint("b", "model = \"one\"")).unwrap();
        keep(&connection, &endpoint("a", "")).unwrap();
        keep(&connection, &endpoint("b", "model = \"two\"")).unwrap();
        assert_eq!(
            all(&connection).unwrap(),
            [endpoint("a", ""), endpoint("b", "model = \"two\"")]
        );
        assert!(stop(&connection, "b", true).unwrap());
        assert!(!stop(&connection, "c", true).unwrap());
        assert!(one(&connection, "b").unwrap().unwrap().is_stopped);
        forget(&connection, "b").unwrap();
        assert_eq!(one(&connection, "b").unwrap(), None);
    }
}
