//! KV memory, taken from the system ahead of its use, so that no step waits for it.

use std::io;
use vastrelay_kernels::reserved::Untouched;

/// Bytes that are taken at a time: not long enough for somebody who needs the same memory to wait for.
const PIECE: usize = 1 << 20;
/// The least that a thread can ask of a processor.
const LEAST_PRIORITY: i32 = 19;

/// Takes all of the memory on a thread of the least priority, and tells what it gets. It ends early when the memory is given back, or the
/// system has none left: then the rest is given when it is used, or not at all.
///
/// # Errors
/// When the system refuses a thread.
pub(crate) fn touch(memory: Vec<Untouched>, mut given: impl FnMut(usize) + Send + 'static) -> io::Result<()> {
    let thread = std::thread::Builder::new().name("touch".into());
    thread.spawn(move || {
        // One that keeps its priority only does its work at other times.
        let _ = rustix::process::nice(LEAST_PRIORITY);
        memory.iter().for_each(|memory| whole(memory, &mut given));
    })?;
    Ok(())
}

fn whole(memory: &Untouched, given: &mut impl FnMut(usize)) {
    let mut from = 0;
    while let Ok(bytes @ 1..) = memory.touch(from, PIECE) {
        from += bytes;
        given(bytes);
    }
}
