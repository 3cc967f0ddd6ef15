//! The tables, and how they came to be.

use rusqlite_migration::{M, Migrations};

/// Returns every step from an empty database to today's schema; steps are only ever added.
pub(crate) fn migrations() -> Migrations<'static> {
    Migrations::new(vec![M::up(
        "CREATE TABLE calls (
            number        INTEGER PRIMARY KEY,
            id            TEXT NOT NULL,
            at_ms         INTEGER NOT NULL,
            endpoint      TEXT NOT NULL,
            model         TEXT NOT NULL,
            status        INTEGER NOT NULL,
            outcome       TEXT NOT NULL,
            streamed      INTEGER NOT NULL,
            prompt_tokens INTEGER NOT NULL,
            reused_tokens INTEGER NOT NULL,
            output_tokens INTEGER NOT NULL,
            queued        REAL NOT NULL,
            prefill       REAL NOT NULL,
            ttft          REAL NOT NULL,
            itl_mean      REAL NOT NULL,
            itl_max       REAL NOT NULL,
            total         REAL NOT NULL
        ) STRICT;
        CREATE INDEX calls_at ON calls (at_ms);",
    )])
}

#[cfg(test)]
mod tests {
    #[test]
    fn migrations_are_well_formed() {
        super::migrations().validate().unwrap();
    }
}
