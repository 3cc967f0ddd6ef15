//! The tables, and how they came to be.

use rusqlite::Connection;
use rusqlite_migration::{M, Migrations};

/// Returns every step from an empty database to today's schema; steps are only ever added.
pub(crate) fn migrations() -> Migrations<'static> {
    Migrations::new(vec![
        M::up(CALLS),
        M::up(KEYS_RUNS_AND_FULLER_CALLS),
        M::up(HISTORY),
        M::up(ENDPOINTS),
        M::up(BUSY),
        M::up(BEGUN_AND_MOVES),
        M::up(EVENTS),
        M::up(KEPT),
        M::up(KEYS_OF_ENDPOINTS),
        M::up(STANDING),
        M::up(STARTS),
        M::up(JOBS_AND_BUILDS),
        M::up(GRANTED),
        M::up(GIVEN_IDS),
        M::up(WEIGHTS_OF_KEYS),
        M::up(LIMITS_OF_RUNS_AND_HISTORY),
        M::up(CHANGES),
        M::up(OUTCOMES),
        M::up(STARTS_AND_ERRORS_OF_CALLS),
    ])
}

/// Changes that are under way are kept from now on, and for each endpoint the number of its release: that of the newest one with its spec, as
/// far as specs were kept.
const CHANGES: &str = "CREATE TABLE changes (
    endpoint     TEXT PRIMARY KEY,
    number       INTEGER NOT NULL,
    kind         TEXT NOT NULL,
    spec         TEXT NOT NULL,
    beside       TEXT NOT NULL,
    granted      TEXT NOT NULL,
    from_release INTEGER,
    with_pause   INTEGER NOT NULL,
    within_ms    INTEGER
) STRICT;
ALTER TABLE endpoints ADD COLUMN release INTEGER NOT NULL DEFAULT 0;
UPDATE endpoints SET release = COALESCE(
    (SELECT MAX(release) FROM releases WHERE endpoint = name AND releases.spec = endpoints.spec),
    (SELECT MAX(release) FROM releases WHERE endpoint = name),
    0);";

/// The state of endpoints that are not served: stopped or parked.
const STANDING: &str = "
ALTER TABLE endpoints ADD COLUMN standing TEXT NOT NULL DEFAULT 'served';
UPDATE endpoints SET standing = 'stopped' WHERE stopped;
ALTER TABLE endpoints DROP COLUMN stopped;";

const STARTS: &str = "CREATE TABLE starts (
    number      INTEGER PRIMARY KEY,
    at_ms       INTEGER NOT NULL,
    endpoint    TEXT NOT NULL,
    release     INTEGER NOT NULL,
    replica     INTEGER NOT NULL,
    incarnation INTEGER NOT NULL,
    seconds     REAL NOT NULL,
    phases      TEXT NOT NULL,
    failure     TEXT
) STRICT;
CREATE INDEX starts_of ON starts (endpoint, number);";

const JOBS_AND_BUILDS: &str = "CREATE TABLE jobs (
    number   INTEGER PRIMARY KEY AUTOINCREMENT,
    at_ms    INTEGER NOT NULL,
    kind     TEXT NOT NULL,
    name     TEXT NOT NULL,
    endpoint TEXT NOT NULL,
    who      TEXT NOT NULL,
    state    TEXT NOT NULL,
    ended_ms INTEGER,
    outcome  TEXT NOT NULL,
    log      TEXT NOT NULL
) STRICT;
CREATE TABLE builds (
    digest    TEXT PRIMARY KEY,
    source    TEXT NOT NULL,
    precision TEXT NOT NULL,
    at_ms     INTEGER NOT NULL,
    bytes     INTEGER NOT NULL
) STRICT;
CREATE TABLE build_uses (
    digest   TEXT NOT NULL,
    endpoint TEXT NOT NULL,
    release  INTEGER NOT NULL,
    PRIMARY KEY (digest, endpoint, release)
) STRICT;
CREATE TABLE digests (
    path   TEXT PRIMARY KEY,
    stamp  TEXT NOT NULL,
    digest TEXT NOT NULL
) STRICT;";

/// Rewrites a database that was made before freed space could be given back; does nothing to others.
pub(crate) fn make_shrinkable(connection: &Connection) -> rusqlite::Result<()> {
    const INCREMENTAL: i64 = 2;
    let mode: i64 = connection.query_row("PRAGMA auto_vacuum", [], |row| row.get(0))?;
    if mode == INCREMENTAL {
        return Ok(());
    }
    connection.pragma_update(None, "auto_vacuum", "incremental")?;
    connection.execute_batch("VACUUM")
}

const CALLS: &str = "CREATE TABLE calls (
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
CREATE INDEX calls_at ON calls (at_ms);";

const KEYS_RUNS_AND_FULLER_CALLS: &str = "
ALTER TABLE calls ADD COLUMN caller      TEXT NOT NULL DEFAULT '';
ALTER TABLE calls ADD COLUMN parameters  TEXT NOT NULL DEFAULT '{}';
ALTER TABLE calls ADD COLUMN itl_p50     REAL NOT NULL DEFAULT 0;
ALTER TABLE calls ADD COLUMN itl_p90     REAL NOT NULL DEFAULT 0;
ALTER TABLE calls ADD COLUMN itl_p99     REAL NOT NULL DEFAULT 0;
ALTER TABLE calls ADD COLUMN preemptions INTEGER NOT NULL DEFAULT 0;
ALTER TABLE calls ADD COLUMN client_gone INTEGER NOT NULL DEFAULT 0;
ALTER TABLE calls ADD COLUMN gaps        BLOB NOT NULL DEFAULT x'';
CREATE INDEX calls_id ON calls (id);
CREATE TABLE texts (
    number INTEGER PRIMARY KEY,
    prompt TEXT NOT NULL,
    answer TEXT NOT NULL
) STRICT;
CREATE TABLE keys (
    id         TEXT PRIMARY KEY,
    name       TEXT NOT NULL,
    hash       BLOB NOT NULL,
    scope      TEXT NOT NULL,
    created_ms INTEGER NOT NULL,
    expires_ms INTEGER,
    revoked_ms INTEGER,
    used_ms    INTEGER,
    per_minute INTEGER,
    at_once    INTEGER
) STRICT;
CREATE TABLE runs (
    id       TEXT PRIMARY KEY,
    at_ms    INTEGER NOT NULL,
    document TEXT NOT NULL
) STRICT;";

const HISTORY: &str = "CREATE TABLE history (
    model        TEXT NOT NULL,
    span         INTEGER NOT NULL,
    at_ms        INTEGER NOT NULL,
    queue_depth  INTEGER NOT NULL,
    lanes_used   REAL NOT NULL,
    pages_used   INTEGER NOT NULL,
    prefill_rate REAL NOT NULL,
    output_rate  REAL NOT NULL,
    answered     INTEGER NOT NULL,
    refused      INTEGER NOT NULL,
    ttft_p50     REAL,
    ttft_p95     REAL,
    ttft_p99     REAL,
    itl_p50      REAL,
    itl_p95      REAL,
    itl_p99      REAL,
    PRIMARY KEY (model, span, at_ms)
) STRICT, WITHOUT ROWID;";

/// What a call does becomes its operation, and what it was sent to an endpoint with releases, replicas and incarnations. Everything
/// before ran on the CPU, in releases that nobody numbered.
const ENDPOINTS: &str = "
ALTER TABLE calls RENAME COLUMN endpoint TO operation;
ALTER TABLE calls RENAME COLUMN model TO endpoint;
ALTER TABLE calls ADD COLUMN release     INTEGER NOT NULL DEFAULT 0;
ALTER TABLE calls ADD COLUMN replica     INTEGER NOT NULL DEFAULT 0;
ALTER TABLE calls ADD COLUMN incarnation INTEGER NOT NULL DEFAULT 0;
ALTER TABLE calls ADD COLUMN device      TEXT NOT NULL DEFAULT '';
ALTER TABLE calls ADD COLUMN simulated   INTEGER NOT NULL DEFAULT 0;
UPDATE calls SET device = 'cpu' WHERE output_tokens > 0;
ALTER TABLE history RENAME TO old_history;
CREATE TABLE history (
    endpoint     TEXT NOT NULL,
    release      INTEGER NOT NULL,
    replica      INTEGER NOT NULL,
    incarnation  INTEGER NOT NULL,
    device       TEXT NOT NULL,
    simulated    INTEGER NOT NULL,
    span         INTEGER NOT NULL,
    at_ms        INTEGER NOT NULL,
    queue_depth  INTEGER NOT NULL,
    lanes_used   REAL NOT NULL,
    pages_used   INTEGER NOT NULL,
    prefill_rate REAL NOT NULL,
    output_rate  REAL NOT NULL,
    answered     INTEGER NOT NULL,
    refused      INTEGER NOT NULL,
    ttft_p50     REAL,
    ttft_p95     REAL,
    ttft_p99     REAL,
    itl_p50      REAL,
    itl_p95      REAL,
    itl_p99      REAL,
    PRIMARY KEY (endpoint, span, at_ms, release, replica, incarnation)
) STRICT, WITHOUT ROWID;
INSERT INTO history
    SELECT model, 0, 0, 0, 'cpu', 0, span, at_ms, queue_depth, lanes_used, pages_used, prefill_rate, output_rate, answered, refused,
        ttft_p50, ttft_p95, ttft_p99, itl_p50, itl_p95, itl_p99
    FROM old_history;
DROP TABLE old_history;
CREATE TABLE releases (
    endpoint TEXT NOT NULL,
    release  INTEGER NOT NULL,
    at_ms    INTEGER NOT NULL,
    settings TEXT NOT NULL,
    PRIMARY KEY (endpoint, release)
) STRICT, WITHOUT ROWID;
CREATE TABLE incarnations (
    incarnation INTEGER PRIMARY KEY AUTOINCREMENT,
    endpoint    TEXT NOT NULL,
    release     INTEGER NOT NULL,
    replica     INTEGER NOT NULL,
    version     TEXT NOT NULL,
    at_ms       INTEGER NOT NULL
) STRICT;";

/// How busy devices were is kept from now on.
const BUSY: &str = "ALTER TABLE history ADD COLUMN busy_share REAL NOT NULL DEFAULT 0;";

/// Calls are noted as soon as they are accepted, and how they went from worker to worker.
const BEGUN_AND_MOVES: &str = "
ALTER TABLE calls ADD COLUMN moves TEXT NOT NULL DEFAULT '[]';
CREATE TABLE begun (
    id         TEXT PRIMARY KEY,
    at_ms      INTEGER NOT NULL,
    operation  TEXT NOT NULL,
    caller     TEXT NOT NULL,
    endpoint   TEXT NOT NULL,
    release    INTEGER NOT NULL,
    replica    INTEGER NOT NULL,
    incarnation INTEGER NOT NULL,
    device     TEXT NOT NULL,
    simulated  INTEGER NOT NULL,
    parameters TEXT NOT NULL,
    streamed   INTEGER NOT NULL,
    prompt_tokens INTEGER NOT NULL
) STRICT, WITHOUT ROWID;";

/// What happened to endpoints is kept from now on.
const EVENTS: &str = "
CREATE TABLE events (
    number   INTEGER PRIMARY KEY AUTOINCREMENT,
    at_ms    INTEGER NOT NULL,
    endpoint TEXT NOT NULL,
    release  INTEGER NOT NULL,
    replica  INTEGER NOT NULL,
    what     TEXT NOT NULL,
    who      TEXT NOT NULL,
    why      TEXT NOT NULL
) STRICT;
CREATE INDEX events_endpoint ON events (endpoint, number);";

/// What endpoints are to be is kept from now on, and for each release the spec that it was made from.
const KEPT: &str = "
CREATE TABLE endpoints (
    name    TEXT PRIMARY KEY,
    spec    TEXT NOT NULL,
    beside  TEXT NOT NULL,
    stopped INTEGER NOT NULL
) STRICT, WITHOUT ROWID;
ALTER TABLE releases ADD COLUMN spec   TEXT NOT NULL DEFAULT '';
ALTER TABLE releases ADD COLUMN beside TEXT NOT NULL DEFAULT '';";

/// Which files an endpoint may name is kept from now on: `*` is all that its spec names, else a JSON list.
const GRANTED: &str = "
ALTER TABLE endpoints ADD COLUMN granted TEXT NOT NULL DEFAULT '*';
ALTER TABLE releases  ADD COLUMN granted TEXT NOT NULL DEFAULT '*';";

/// The ids that callers give their requests are kept beside ours from now on.
const GIVEN_IDS: &str = "
ALTER TABLE calls ADD COLUMN given_id TEXT NOT NULL DEFAULT '';
ALTER TABLE begun ADD COLUMN given_id TEXT NOT NULL DEFAULT '';
CREATE INDEX calls_given ON calls (given_id) WHERE given_id <> '';";

/// Keys may be good for some endpoints only, whose names stand in lines.
const KEYS_OF_ENDPOINTS: &str = "ALTER TABLE keys ADD COLUMN endpoints TEXT NOT NULL DEFAULT '';";

const WEIGHTS_OF_KEYS: &str = "ALTER TABLE keys ADD COLUMN weight INTEGER NOT NULL DEFAULT 1;";

/// Load tests have a limit of their own, and history goes by its age alone. The index has the sizes, as a run's document stands before them.
const LIMITS_OF_RUNS_AND_HISTORY: &str = "
ALTER TABLE runs ADD COLUMN bytes INTEGER NOT NULL DEFAULT 0;
UPDATE runs SET bytes = octet_length(document);
CREATE INDEX runs_at ON runs (at_ms, id, bytes);
CREATE INDEX history_at ON history (span, at_ms);";

/// Ends that errors have a code for are recorded under that code.
const OUTCOMES: &str = "
UPDATE calls SET outcome = replace(outcome, '-', '_') WHERE outcome IN ('queue-wait', 'not-finite');";

/// How long calls waited for the start of their endpoint, and the messages of their errors, are kept from now on.
const STARTS_AND_ERRORS_OF_CALLS: &str = "
ALTER TABLE calls ADD COLUMN waiting_for_start REAL NOT NULL DEFAULT 0;
ALTER TABLE calls ADD COLUMN error TEXT NOT NULL DEFAULT '';";

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn migrations_are_well_formed() {
        migrations().validate().unwrap();
    }

    #[test]
    fn calls_of_the_first_version_are_kept() {
        let mut connection = Connection::open_in_memory().unwrap();
        migrations().to_version(&mut connection, 1).unwrap();
        let old = "INSERT INTO calls VALUES (1, 'a', 5, 'chat', 'm', 200, 'length', 1, 2, 0, 3, 0.1, 0.2, 0.3, 0.4, 0.5, 0.6)";
        connection.execute(old, []).unwrap();
        migrations().to_latest(&mut connection).unwrap();
        let call = crate::calls::latest(&connection, 1).unwrap().remove(0);
        assert_eq!((call.id.as_str(), call.total, call.caller.as_str()), ("a", 0.6, ""));
    }

    #[test]
    fn earlier_outcomes_are_found_under_the_codes_of_their_errors() {
        let mut connection = Connection::open_in_memory().unwrap();
        migrations().to_version(&mut connection, 1).unwrap();
        for (number, outcome) in [(1, "queue-wait"), (2, "not-finite"), (3, "client-gone")] {
            let old =
                "INSERT INTO calls VALUES (?1, ?1, 5, 'chat', 'm', 503, ?2, 1, 2, 0, 3, 0.1, 0.2, 0.3, 0.4, 0.5, 0.6)";
            connection.execute(old, (number, outcome)).unwrap();
        }
        migrations().to_latest(&mut connection).unwrap();
        let calls = crate::calls::latest(&connection, 3).unwrap();
        let outcomes: Vec<&str> = calls.iter().map(|call| call.outcome.as_str()).collect();
        assert_eq!(outcomes, ["client-gone", "not_finite", "queue_wait"]);
    }
}
