//! A database of the time before endpoints had releases and replicas is read whole.

use std::path::Path;
use std::time::Duration;
use vastrelay_store::{CallFilter, CallText, Retention, Scope, Store, StoredState};

/// Keeps everything, however long ago the database was made.
const ALL: Retention = Retention {
    age: Duration::from_secs(200 * 365 * 24 * 3600),
    bytes: 1 << 30,
    run_bytes: 1 << 30,
};

/// Opens a copy of the database.
fn open(folder: &Path) -> Store {
    copy(folder);
    Store::open(folder, ALL).unwrap()
}

fn copy(folder: &Path) {
    let old = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/before-endpoints.sqlite");
    std::fs::copy(old, folder.join("vastrelay.sqlite")).unwrap();
}

#[test]
fn calls_and_texts_are_kept_and_what_they_did_is_their_operation() {
    let folder = tempfile::tempdir().unwrap();
    let store = open(folder.path());
    assert_eq!(store.count_calls(), 24);
    let call = store.call("plain-one").unwrap().unwrap();
    assert_eq!(
        (call.operation.as_str(), call.endpoint.as_str()),
        ("completions", "pierdesk")
    );
    assert_eq!((call.release, call.replica, call.incarnation), (0, 0, 0));
    assert_eq!((call.device.as_str(), call.simulated), ("cpu", false));
    assert_eq!(
        (call.caller.as_str(), call.output_tokens, call.gaps.len()),
        ("old desk", 8, 7)
    );
    assert_eq!(
        call.text,
        Some(CallText {
            prompt: "\"The ferry\"".into(),
            answer: " in the has booked booked booked booked booked".into(),
        })
    );
    let refused = store.call("nobody").unwrap().unwrap();
    assert_eq!((refused.endpoint.as_str(), refused.device.as_str()), ("nobody", ""));
    let filter = CallFilter {
        endpoint: Some("pierdesk".into()),
        ..CallFilter::default()
    };
    assert_eq!(store.calls(&filter, 100).unwrap().len(), 23);
}

#[test]
fn keys_history_and_runs_are_kept() {
    let folder = tempfile::tempdir().unwrap();
    // A service forgets points of this age as soon as it begins.
    copy(folder.path());
    let store = Store::open_beside(folder.path()).unwrap();
    let keys = store.keys().unwrap();
    let kept: Vec<_> = keys
        .iter()
        .map(|key| (key.name.as_str(), key.scope, key.revoked_ms.is_some()))
        .collect();
    assert_eq!(
        kept,
        [
            ("desk", Scope::Use, false),
            ("night shift", Scope::Manage, false),
            ("old desk", Scope::Use, true)
        ]
    );
    let points = store.history("pierdesk", 5, 0).unwrap();
    assert_eq!(points.len(), 5);
    let busy = &points[3];
    assert_eq!((busy.release, busy.device.as_str(), busy.answered), (0, "cpu", 144));
    assert!(busy.ttft.is_some_and(|[p50, ..]| (p50 - 0.005631).abs() < 1e-9));
    let runs = store.runs_named("before", 10).unwrap();
    assert_eq!(runs.len(), 1);
    assert!(runs[0].document.contains("\"full_context_sequences\":4816"));
}

#[test]
fn endpoints_of_the_time_before_changes_were_kept_have_the_release_of_their_spec() {
    let folder = tempfile::tempdir().unwrap();
    copy(folder.path());
    let path = folder.path().join("vastrelay.sqlite");
    drop(Store::open(folder.path(), ALL).unwrap());
    // The database as the version before left it: three releases of two specs, the first of which is served again.
    let connection = rusqlite::Connection::open(&path).unwrap();
    let before = "DROP TABLE changes; ALTER TABLE endpoints DROP COLUMN release;
        ALTER TABLE calls DROP COLUMN waiting_for_start; ALTER TABLE calls DROP COLUMN error; PRAGMA user_version = 16;
        INSERT INTO endpoints (name, spec, beside, standing, granted) VALUES ('desk', 'one', '/', 'parked', '*');
        INSERT INTO releases (endpoint, release, at_ms, settings, spec, beside, granted) VALUES
        ('desk', 1, 0, '{\"width\":1}', 'one', '/', '*'), ('desk', 2, 0, '{\"width\":2}', 'two', '/', '*'),
        ('desk', 3, 0, '{\"width\":1}', 'one', '/', '*'), ('desk', 4, 0, '{\"width\":4}', '', '', '*');";
    connection.execute_batch(before).unwrap();
    drop(connection);
    let store = Store::open(folder.path(), ALL).unwrap();
    let kept = store.stored_endpoint("desk").unwrap().unwrap();
    assert_eq!((kept.release, kept.state), (3, StoredState::Parked));
    let identity = Some("{\"width\":1}".to_owned());
    assert_eq!(store.release_of("desk", 3).unwrap(), (4, identity));
    assert!(store.changes().unwrap().is_empty());
}
