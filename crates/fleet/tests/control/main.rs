//! The decider in a simulated world: a store whose writes fail, workers that die, freeze or never load, events that come late, twice or never, and a
//! service that is killed between any two effects. `ENDURE_SEED` and `ENDURE_COUNT` say which histories, and how many.

mod history;
mod scenarios;
mod world;

use history::History;

/// Histories of each run in CI.
const USUAL: u64 = 2_000;

fn number(name: &str) -> Option<u64> {
    std::env::var(name).ok()?.parse().ok()
}

#[test]
fn whatever_happens_endpoints_come_to_be_what_they_are_to_be() {
    let (first, count) = (
        number("ENDURE_SEED").unwrap_or(1),
        number("ENDURE_COUNT").unwrap_or(USUAL),
    );
    let threads = std::thread::available_parallelism().map_or(1, usize::from) as u64;
    std::thread::scope(|scope| {
        for thread in 0..threads {
            scope.spawn(move || {
                for seed in (first + thread..first + count).step_by(threads as usize) {
                    if let Err(why) = History::run(seed) {
                        panic!("seed {seed}: {why}");
                    }
                }
            });
        }
    });
}
