//! Ends a process that takes too long for something.

use std::sync::mpsc::{RecvTimeoutError, Sender, channel};
use std::thread::JoinHandle;
use std::time::Duration;
use vastrelay_serving::process::Process;

/// A watchdog that kills a process after a time limit unless it is disarmed earlier.
pub struct Deadline(Option<(Sender<()>, JoinHandle<bool>)>);

impl Deadline {
    /// Begins to wait for a process; for as long as it likes where no limit is given.
    ///
    /// # Errors
    /// When the system refuses a thread or a handle on the process.
    pub fn with(process: u32, limit: Option<Duration>) -> std::io::Result<Deadline> {
        let Some(limit) = limit else { return Ok(Deadline(None)) };
        let process = Process::of(process)?;
        let (disarm, disarmed) = channel();
        let thread = std::thread::Builder::new().name("deadline".into()).spawn(move || {
            let is_over = disarmed.recv_timeout(limit) == Err(RecvTimeoutError::Timeout);
            if is_over {
                process.kill();
            }
            is_over
        })?;
        Ok(Deadline(Some((disarm, thread))))
    }

    /// Ends the wait; returns whether the time was over before.
    pub fn ends(self) -> bool {
        let Some((disarm, thread)) = self.0 else { return false };
        let _ = disarm.send(());
        thread.join().unwrap_or(false)
    }
}
