//! The database as a service uses it.

use super::*;
use rusqlite::Connection;
use std::path::Path;
use std::sync::mpsc::channel;
use std::time::{Duration, Instant};
use vastrelay_wire::manage::HistoryPoint;

fn open(folder: &Path) -> Store {
    Store::open(folder, Retention::default()).unwrap()
}

fn call(id: &str) -> CallRecord {
    CallRecord {
        id: id.into(),
        at_ms: milliseconds_since_1970(),
        endpoint: "pierdesk".into(),
        status: 200,
        output_tokens: 7,
        ..CallRecord::default()
    }
}

fn ids(calls: &[CallRecord]) -> Vec<&str> {
    calls.iter().map(|call| call.id.as_str()).collect()
}

#[test]
fn calls_that_never_ended_are_interrupted_for_the_next_service_and_only_once() {
    let folder = tempfile::tempdir().unwrap();
    {
        let store = open(folder.path());
        ["ends", "never ends"].iter().for_each(|id| store.begin(call(id)));
        store.flush();
        store.record(call("ends"));
        store.begin(call("ends at once"));
        store.record(call("ends at once"));
    }
    for _ in 0..2 {
        let calls = open(folder.path()).calls(&CallFilter::default(), 10).unwrap();
        assert_eq!(ids(&calls), ["never ends", "ends at once", "ends"]);
        let outcomes: Vec<&str> = calls.iter().map(|call| call.outcome.as_str()).collect();
        assert_eq!(outcomes, [INTERRUPTED, "", ""]);
    }
}

#[test]
fn records_outlive_the_store_and_come_back_newest_first() {
    let folder = tempfile::tempdir().unwrap();
    {
        let store = open(folder.path());
        (0..500).for_each(|n| store.record(call(&format!("call-{n}"))));
    }
    let store = open(folder.path());
    assert_eq!(store.count_calls(), 500);
    let latest = store.calls(&CallFilter::default(), 2).unwrap();
    assert_eq!(ids(&latest), ["call-499", "call-498"]);
}

#[test]
fn a_call_comes_back_whole_by_the_start_of_its_id() {
    let folder = tempfile::tempdir().unwrap();
    let store = open(folder.path());
    let text = CallText {
        prompt: "[]".into(),
        answer: "Aye".into(),
    };
    let whole = CallRecord {
        gaps: vec![1, 70_000, 3],
        text: Some(text),
        caller: "desk".into(),
        parameters: r#"{"seed":7}"#.into(),
        ..call("abcdef")
    };
    store.record(whole.clone());
    store.flush();
    assert_eq!(store.call("abc").unwrap(), Some(whole));
    assert_eq!(store.call("abd").unwrap(), None);
}

#[test]
fn filters_let_pass_what_meets_all_of_them() {
    let folder = tempfile::tempdir().unwrap();
    let store = open(folder.path());
    for (id, status, ttft, caller) in [("a", 200, 0.1, ""), ("b", 429, 0.0, "desk"), ("c", 200, 0.9, "desk")] {
        store.record(CallRecord {
            status,
            ttft,
            caller: caller.into(),
            ..call(id)
        });
    }
    store.flush();
    let find = |filter: CallFilter| {
        store
            .calls(&filter, 9)
            .unwrap()
            .into_iter()
            .map(|c| c.id)
            .collect::<String>()
    };
    let filter = CallFilter::default;
    assert_eq!(
        find(CallFilter {
            failed: Some(true),
            ..filter()
        }),
        "b"
    );
    assert_eq!(
        find(CallFilter {
            failed: Some(false),
            ..filter()
        }),
        "ca"
    );
    assert_eq!(
        find(CallFilter {
            least_ttft: Some(0.5),
            ..filter()
        }),
        "c"
    );
    assert_eq!(
        find(CallFilter {
            caller: Some("desk".into()),
            endpoint: Some("pierdesk".into()),
            ..filter()
        }),
        "cb"
    );
    assert_eq!(
        find(CallFilter {
            from_ms: Some(i64::MAX),
            ..filter()
        }),
        ""
    );
}

/// Waits for a state of the store, which its writer brings about.
fn until(store: &Store, reached: impl Fn(&Store) -> bool) {
    let longest_wait = Instant::now() + Duration::from_secs(60);
    while !reached(store) {
        assert!(
            Instant::now() < longest_wait,
            "{} calls, and nothing more happens",
            store.count_calls()
        );
        store.flush();
    }
}

#[test]
fn calls_that_are_too_old_are_deleted() {
    let folder = tempfile::tempdir().unwrap();
    {
        let store = open(folder.path());
        store.record(CallRecord {
            at_ms: 5,
            ..call("old")
        });
        store.record(call("new"));
    }
    let store = open(folder.path());
    until(&store, |store| store.count_calls() == 1);
    assert_eq!(ids(&store.calls(&CallFilter::default(), 9).unwrap()), ["new"]);
}

#[test]
fn calls_that_are_too_many_are_deleted_oldest_first() {
    let folder = tempfile::tempdir().unwrap();
    let retention = Retention {
        bytes: 1 << 20,
        ..Retention::default()
    };
    let store = Store::open(folder.path(), retention).unwrap();
    for n in 0..8_000 {
        store.record(CallRecord {
            gaps: vec![1; 100],
            ..call(&format!("{n}"))
        });
    }
    let newest = |store: &Store| ids(&store.calls(&CallFilter::default(), 1).unwrap()).join("");
    until(&store, |store| newest(store) == "7999" && store.count_calls() < 4_000);
    assert!(store.count_calls() >= 1_000, "{}", store.count_calls());
    let kept = store.calls(&CallFilter::default(), 8_000).unwrap();
    assert!(kept.windows(2).all(|pair| {
        let number = |call: &CallRecord| call.id.parse::<usize>().unwrap();
        number(&pair[0]) == number(&pair[1]) + 1
    }));
}

#[test]
fn keys_are_found_listed_and_revoked_once_and_for_all() {
    let folder = tempfile::tempdir().unwrap();
    let store = open(folder.path());
    let key = KeyRecord {
        id: "k1".into(),
        name: "desk".into(),
        hash: [7; 32],
        scope: Scope::Manage,
        created_ms: 1,
        expires_ms: Some(9),
        revoked_ms: None,
        used_ms: None,
        per_minute: Some(60),
        at_once: None,
        weight: 3,
        endpoints: vec!["pierdesk".into(), "a/b".into()],
    };
    store.add_key(&key).unwrap();
    assert_eq!(store.key("k1").unwrap(), Some(key.clone()));
    assert!(store.add_key(&key).is_err());
    store.key_used("k1", 4);
    store.flush();
    assert!(store.revoke_key("k1", 5).unwrap() && store.revoke_key("k1", 6).unwrap());
    assert!(!store.revoke_key("k2", 6).unwrap());
    let kept = store.keys().unwrap().remove(0);
    assert_eq!((kept.revoked_ms, kept.used_ms), (Some(5), Some(4)));
}

#[test]
fn history_comes_back_by_span_and_goes_by_its_age_also_where_no_newer_point_comes() {
    let folder = tempfile::tempdir().unwrap();
    let store = open(folder.path());
    let point = |at_ms: i64| HistoryPoint {
        at_ms,
        queue_depth: 3,
        lanes_used: 1.5,
        busy_share: 0.25,
        ttft: Some([0.1, 0.2, 0.3]),
        ..HistoryPoint::default()
    };
    let hour = 3_600_000;
    let now = milliseconds_since_1970();
    let ago = |hours: i64| now - hours * hour;
    for at in [ago(24 * 9), ago(4), ago(2), ago(1)] {
        for span in [5, 60] {
            store.record_history(HistoryRecord {
                endpoint: "pierdesk".into(),
                span,
                point: point(at),
            });
        }
    }
    drop(store);
    let store = open(folder.path());
    until(&store, |store| store.history("pierdesk", 5, 0).unwrap().len() == 2);
    assert_eq!(store.history("pierdesk", 5, 0).unwrap(), [point(ago(2)), point(ago(1))]);
    until(&store, |store| store.history("pierdesk", 60, 0).unwrap().len() == 3);
    assert_eq!(
        store.history("pierdesk", 60, ago(3)).unwrap(),
        [point(ago(2)), point(ago(1))]
    );
    assert_eq!(store.history("another", 5, 0).unwrap(), []);
}

#[test]
fn runs_are_kept_and_replaced() {
    let folder = tempfile::tempdir().unwrap();
    let store = open(folder.path());
    let with = |id: &str, at_ms, document: &str| RunRecord {
        id: id.into(),
        at_ms,
        document: document.into(),
    };
    for run in [with("a", 1, "1"), with("b", 2, "2"), with("a", 1, "3")] {
        store.add_run(&run).unwrap();
    }
    assert_eq!(store.runs(9).unwrap(), [with("b", 2, "2"), with("a", 1, "3")]);
    store.add_run(&with("c", 3, r#"{"name": "wide"}"#)).unwrap();
    assert_eq!(
        store.runs_named("wide", 9).unwrap(),
        [with("c", 3, r#"{"name": "wide"}"#)]
    );
    assert_eq!(store.runs_named("narrow", 9).unwrap(), []);
    assert_eq!(store.run("b").unwrap(), Some(with("b", 2, "2")));
}

#[test]
fn a_database_of_a_later_version_is_refused_not_damaged() {
    let folder = tempfile::tempdir().unwrap();
    drop(open(folder.path()));
    let connection = Connection::open(folder.path().join("vastrelay.sqlite")).unwrap();
    connection.pragma_update(None, "user_version", 999).unwrap();
    drop(connection);
    let error = Store::open(folder.path(), Retention::default())
        .err()
        .unwrap()
        .to_string();
    assert!(error.contains("cannot use the database"), "{error}");
}

fn on_disk(folder: &Path) -> u64 {
    let files = std::fs::read_dir(folder)
        .unwrap()
        .map(|file| file.unwrap().metadata().unwrap().len());
    files.sum()
}

#[test]
fn texts_go_before_calls_and_the_space_is_given_back() {
    let folder = tempfile::tempdir().unwrap();
    let retention = Retention {
        age: Duration::from_secs(3600),
        bytes: 4 << 20,
        ..Retention::default()
    };
    let store = Store::open(folder.path(), retention).unwrap();
    for n in 0..1_500 {
        let text = CallText {
            prompt: "x".repeat(64 << 10),
            answer: String::new(),
        };
        store.record(CallRecord {
            text: Some(text),
            ..call(&format!("{n:04}"))
        });
        if n % 100 == 0 {
            store.flush();
        }
    }
    until(&store, |store| store.call("1499").unwrap().is_some());
    until(&store, |store| store.call("0001").unwrap().unwrap().text.is_none());
    until(&store, |_| on_disk(folder.path()) < 32 << 20);
    assert_eq!(store.count_calls(), 1_500, "no call was deleted for the texts' sake");
    assert!(store.call("1499").unwrap().unwrap().text.is_some());
    assert!(store.call("0001").unwrap().unwrap().text.is_none());
    assert_eq!(store.lost().count(), 0);
}

fn run(id: &str, at_ms: i64, bytes: usize) -> RunRecord {
    RunRecord {
        id: id.into(),
        at_ms,
        document: "x".repeat(bytes),
    }
}

#[test]
fn load_tests_push_no_texts_out_and_have_a_limit_of_their_own() {
    let folder = tempfile::tempdir().unwrap();
    let retention = Retention {
        bytes: 4 << 20,
        run_bytes: 20 << 20,
        ..Retention::default()
    };
    let fill = || {
        let store = Store::open(folder.path(), retention).unwrap();
        for (n, id) in ["a", "b", "c"].iter().enumerate() {
            store.add_run(&run(id, n as i64, 8 << 20)).unwrap();
        }
        for n in 0..40 {
            let text = CallText {
                prompt: "x".repeat(64 << 10),
                answer: String::new(),
            };
            store.record(CallRecord {
                text: Some(text),
                ..call(&format!("call-{n}"))
            });
        }
    };
    fill();
    // The next service begins with a look at everything.
    let store = Store::open(folder.path(), retention).unwrap();
    until(&store, |store| store.run("a").unwrap().is_none());
    let texts = |store: &Store| {
        let with_text = |n: &usize| store.call(&format!("call-{n}")).unwrap().unwrap().text.is_some();
        (10..40).filter(with_text).count()
    };
    assert_eq!(
        texts(&store),
        30,
        "2.5 MiB of texts have room beside 16 MiB of load tests"
    );
    assert!(store.run("b").unwrap().is_some() && store.run("c").unwrap().is_some());
    assert!(store.delete_run("b").unwrap() && !store.delete_run("b").unwrap());
}

#[test]
fn the_newest_load_test_stays_however_large_it_is() {
    let mut connection = Connection::open_in_memory().unwrap();
    schema::migrations().to_latest(&mut connection).unwrap();
    for (id, at_ms) in [("old", 1), ("new", 2)] {
        runs::insert(&connection, &run(id, at_ms, 10)).unwrap();
    }
    assert_eq!(runs::bytes(&connection).unwrap(), 20);
    assert_eq!(runs::prune(&connection, 5).unwrap(), 1);
    assert_eq!(runs::prune(&connection, 5).unwrap(), 0);
    assert!(runs::one(&connection, "new").unwrap().is_some());
}

#[test]
fn load_tests_of_an_earlier_version_count_by_their_size() {
    let mut connection = Connection::open_in_memory().unwrap();
    let latest = schema::migrations();
    latest.to_version(&mut connection, 15).unwrap();
    let old = "INSERT INTO runs (id, at_ms, document) VALUES ('a', 1, 'née')";
    connection.execute(old, []).unwrap();
    latest.to_latest(&mut connection).unwrap();
    assert_eq!(runs::bytes(&connection).unwrap(), 4);
}

#[test]
fn deleting_that_fails_loses_no_records_and_is_tried_again() {
    let folder = tempfile::tempdir().unwrap();
    {
        let store = open(folder.path());
        let trigger = "CREATE TRIGGER no BEFORE DELETE ON calls BEGIN SELECT raise(ABORT, 'no'); END";
        store
            .change(move |connection| connection.execute_batch(trigger))
            .unwrap();
        store.record(CallRecord {
            at_ms: 5,
            ..call("old")
        });
    }
    let store = open(folder.path());
    (0..3_000).for_each(|n| store.record(call(&format!("{n}"))));
    until(&store, |store| store.count_calls() == 3_001);
    assert_eq!(store.lost().count(), 0);
    store
        .change(|connection| connection.execute_batch("DROP TRIGGER no"))
        .unwrap();
    (0..3_000).for_each(|n| store.record(call(&format!("again {n}"))));
    until(&store, |store| store.count_calls() == 6_000);
}

#[test]
fn reading_waits_for_no_change_and_changes_nothing() {
    let folder = tempfile::tempdir().unwrap();
    let store = open(folder.path());
    store.record(call("before"));
    store.flush();
    let (begun, wait) = channel();
    let (go_on, stay) = channel::<()>();
    std::thread::scope(|scope| {
        let slow = scope.spawn(|| {
            store.change(move |connection| {
                begun.send(()).unwrap();
                stay.recv().unwrap();
                connection.execute("DELETE FROM calls", [])
            })
        });
        wait.recv().unwrap();
        assert_eq!(ids(&store.calls(&CallFilter::default(), 9).unwrap()), ["before"]);
        assert!(
            store
                .read(|connection| connection.execute("DELETE FROM calls", []))
                .is_err()
        );
        go_on.send(()).unwrap();
        assert_eq!(slow.join().unwrap().unwrap(), 1);
    });
    assert_eq!(store.calls(&CallFilter::default(), 9).unwrap(), []);
}

#[test]
fn a_change_that_panics_or_fails_is_not_made_and_the_next_one_is() {
    let folder = tempfile::tempdir().unwrap();
    let store = open(folder.path());
    let insert = "INSERT INTO digests VALUES ('/a', 'then', 'd')";
    let panicked = store.change(move |connection| -> rusqlite::Result<()> {
        connection.execute(insert, [])?;
        panic!("on purpose");
    });
    assert!(matches!(panicked, Err(StoreError::Lost)), "{panicked:?}");
    let failed = store.change(move |connection| {
        connection.execute(insert, [])?;
        connection.execute(insert, [])
    });
    assert!(matches!(failed, Err(StoreError::Database { .. })), "{failed:?}");
    assert_eq!(store.digest("/a", "then").unwrap(), None);
    store.keep_digest("/a", "then", "e").unwrap();
    assert_eq!(store.digest("/a", "then").unwrap().as_deref(), Some("e"));
}

#[test]
fn a_removed_endpoint_comes_back_without_its_releases_and_starts() {
    let folder = tempfile::tempdir().unwrap();
    let store = open(folder.path());
    for release in [1, 2] {
        let kept = StoredEndpoint {
            name: "desk".into(),
            release,
            ..StoredEndpoint::default()
        };
        let identity = format!("release {release}");
        store.becomes(DesiredRecord { kept, identity }).unwrap();
    }
    store.record_start(StartRecord {
        endpoint: "desk".into(),
        ..StartRecord::default()
    });
    store.flush();
    let counts = || {
        let (releases, starts) = (store.releases("desk").unwrap(), store.starts("desk").unwrap());
        (releases.len(), starts.len())
    };
    assert_eq!(counts(), (2, 1));
    assert_eq!(store.release_of("desk", 2).unwrap(), (2, Some("release 2".into())));
    let number = store.next_job();
    let removal = ChangeRecord {
        number,
        endpoint: "desk".into(),
        kind: "remove".into(),
        ..ChangeRecord::default()
    };
    let job = JobRecord {
        number,
        ..JobRecord::default()
    };
    store.begin_change(removal, job, AtOnce::Removes, None).unwrap();
    assert_eq!((store.stored_endpoint("desk").unwrap(), counts()), (None, (0, 0)));
    assert_eq!(store.release_of("desk", 2).unwrap(), (0, None));
}

#[test]
fn jobs_and_incarnations_get_their_numbers_while_the_database_is_locked_and_no_number_twice() {
    let folder = tempfile::tempdir().unwrap();
    {
        let store = open(folder.path());
        let other = Connection::open(folder.path().join("vastrelay.sqlite")).unwrap();
        other.execute_batch("BEGIN IMMEDIATE").unwrap();
        assert_eq!([store.next_job(), store.next_job()], [1, 2]);
        store.record_incarnation(IncarnationRecord {
            incarnation: store.last_incarnation() + 1,
            ..IncarnationRecord::default()
        });
        other.execute_batch("ROLLBACK").unwrap();
        store
            .begin_job(&JobRecord {
                number: 2,
                ..JobRecord::default()
            })
            .unwrap();
    }
    let store = open(folder.path());
    assert_eq!((store.next_job(), store.last_incarnation()), (3, 1));
}

#[test]
fn a_record_that_the_database_refuses_is_lost_alone_and_counted() {
    let folder = tempfile::tempdir().unwrap();
    let store = open(folder.path());
    let trigger = "CREATE TRIGGER no BEFORE INSERT ON calls WHEN NEW.id = 'bad' BEGIN SELECT raise(ABORT, 'no'); END";
    store
        .change(move |connection| connection.execute_batch(trigger))
        .unwrap();
    ["a", "bad", "b"].iter().for_each(|id| store.record(call(id)));
    store.flush();
    assert_eq!((store.count_calls(), store.lost().count()), (2, 1));
    assert_eq!(ids(&store.calls(&CallFilter::default(), 9).unwrap()), ["b", "a"]);
}

#[test]
fn records_wait_for_a_lock_of_another_process_and_the_inbox_is_bounded() {
    let folder = tempfile::tempdir().unwrap();
    let store = open(folder.path());
    let other = Connection::open(folder.path().join("vastrelay.sqlite")).unwrap();
    other.execute_batch("BEGIN IMMEDIATE").unwrap();
    (0..20_000).for_each(|n| store.record(call(&format!("{n}"))));
    let lost = store.lost().count();
    assert!((2_000..4_000).contains(&lost), "{lost} of 20,000 had no room");
    other.execute_batch("ROLLBACK").unwrap();
    while store.count_calls() + lost < 20_000 {
        store.flush();
    }
}

#[test]
fn a_folder_serves_one_service_at_a_time() {
    let folder = tempfile::tempdir().unwrap();
    let first = open(folder.path());
    let second = Store::open(folder.path(), Retention::default()).err().unwrap();
    assert!(second.to_string().contains("another service uses"), "{second}");
    assert!(Store::open_beside(folder.path()).is_ok());
    drop(first);
    drop(open(folder.path()));
}

#[test]
fn a_database_that_could_not_give_space_back_is_rewritten_once() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("vastrelay.sqlite");
    let old = Connection::open(&path).unwrap();
    old.execute_batch("CREATE TABLE kept (x); INSERT INTO kept VALUES (7)")
        .unwrap();
    drop(old);
    drop(open(folder.path()));
    let mode = |query: &str| -> i64 {
        let connection = Connection::open(&path).unwrap();
        connection.query_row(query, [], |row| row.get(0)).unwrap()
    };
    assert_eq!((mode("PRAGMA auto_vacuum"), mode("SELECT x FROM kept")), (2, 7));
}
