//! Ends a process that takes too long for something.

use std::sync::mpsc::{RecvTimeoutError, Sender, channel};
use std::thread::JoinHandle;
use std::time::Duration;
use vastrelay_serving::process::Process;

/// A watchdog that kills a process after a time limit unless it is disarmed earlier.
pub struct Patience(Option<(Sender<()>, JoinHandle<bool>)>);

impl Patience {
    /// Begins to wait for a process; for as long as it likes where no limit is given.
    ///
    /// # Errors
    /// When the system refuses a thread or a handle on the process.
    pub fn with(process: u32, limit: Option<Duration>) -> std::io::Result<Patience> {
        let Some(limit) = limit else { return Ok(Patience(None)) };
        let process = Process::of(process)?;
        let (content, told) = channel();
        let thread = std::thread::Builder::new().name("patience".into()).spawn(move || {
            let is_over = told.recv_timeout(limit) == Err(RecvTimeoutError::Timeout);
            if is_over {
                process.kill();
            }
            is_over
        })?;
        Ok(Patience(Some((content, thread))))
    }

    /// Ends the wait; returns whether the time was over before.
    pub fn ends(self) -> bool {
        let Some((content, thread)) = self.0 else { return false };
        let _ = content.send(());
        thread.join().unwrap_or(false)
    }
}
