//! Panics in the control plane: each ends one piece of work, and nothing else.

use std::panic::{AssertUnwindSafe, catch_unwind};

/// Hears of each panic, with its text.
pub type OnPanic = Box<dyn Fn(String) + Send + Sync>;

/// Runs work that may panic: the result is nothing then, and the log has the reason. The decider asks again for an answer that never came,
/// so a lost event ends nothing.
pub fn guard<T>(what: &str, on_panic: &OnPanic, work: impl FnOnce() -> T) -> Option<T> {
    let done = catch_unwind(AssertUnwindSafe(work));
    if let Err(panic) = &done {
        let text = panic.downcast_ref::<String>().map(String::as_str);
        let why = text.or_else(|| panic.downcast_ref::<&str>().copied());
        let why = why.unwrap_or("it said nothing");
        tracing::error!(what, why, "the control plane has panicked; it continues");
        on_panic(format!("{what}: {why}"));
    }
    done.ok()
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::sync::{Arc, Mutex};

    #[test]
    fn a_panic_is_reported_and_ends_nothing_else() {
        let heard = Arc::new(Mutex::new(Vec::new()));
        let hears = heard.clone();
        let on_panic: OnPanic = Box::new(move |text| hears.lock().unwrap().push(text));
        assert_eq!(guard("a message", &on_panic, || 7), Some(7));
        assert_eq!(
            guard("a message", &on_panic, || -> u32 { panic!("no {}", "end") }),
            None
        );
        assert_eq!(guard("a tick", &on_panic, || 8), Some(8));
        assert_eq!(*heard.lock().unwrap(), ["a message: no end"]);
    }
}
