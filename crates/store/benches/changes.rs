//! How long a change of the database takes while records stream in, and while much is deleted.

use std::time::{Duration, Instant};
use vastrelay_store::{CallRecord, CallText, Retention, Store, milliseconds_since_1970};

/// Changes that are measured in each case.
const CHANGES: usize = 400;

fn call(number: usize, text: usize) -> CallRecord {
    CallRecord {
        id: number.to_string(),
        at_ms: milliseconds_since_1970(),
        gaps: vec![1_000; 100],
        text: (text > 0).then(|| CallText {
            prompt: "x".repeat(text),
            answer: String::new(),
        }),
        ..CallRecord::default()
    }
}

/// Returns the times of changes, in milliseconds and in order, while so many records of a size come between two.
fn measure(store: &Store, records: usize, text: usize) -> Vec<f64> {
    let mut times: Vec<f64> = (0..CHANGES)
        .map(|change| {
            (0..records).for_each(|number| store.record(call(change * records + number, text)));
            let began = Instant::now();
            store
                .keep_digest("/weights", &change.to_string(), "digest")
                .expect("the database can be written");
            began.elapsed().as_secs_f64() * 1_000.0
        })
        .collect();
    times.sort_by(f64::total_cmp);
    times
}

fn main() {
    println!("a change, in ms                p50     p99     most    records lost");
    for (name, records, text) in [
        ("alone", 0, 0),
        ("beside 50 calls", 50, 0),
        ("beside 50 texts of 8 KiB", 50, 8 << 10),
        ("beside 4 texts of 1 MiB", 4, 1 << 20),
    ] {
        let folder = tempfile::tempdir().expect("a folder");
        let retention = Retention {
            bytes: 64 << 20,
            age: Duration::from_secs(3_600),
            ..Retention::default()
        };
        let store = Store::open(folder.path(), retention).expect("a database");
        let times = measure(&store, records, text);
        let at = |part: f64| times[((times.len() - 1) as f64 * part) as usize];
        println!(
            "{name:<28} {:>7.2} {:>7.2} {:>7.2} {:>9}",
            at(0.5),
            at(0.99),
            at(1.0),
            store.lost().count()
        );
    }
}
