//! `vastrelay worker`: the process of one replica, started by a service.

use crate::failure::Failure;
use std::os::fd::AsFd;
use std::os::unix::net::UnixListener;
use vastrelay_serving::worker::{FAILED, serve};

/// How much rather than others it is ended when the machine's memory runs out, of a thousand.
const ENDED_RATHER: &str = "500";

/// How much rather than a worker others get a core.
const STANDS_BACK: i32 = 5;

/// Serves at the socket that is its standard input until it is told to end.
pub fn run() -> Result<(), Failure> {
    // HTTP threads come first where both want a core: their turns are short, and callers wait for them.
    let _ = rustix::process::nice(STANDS_BACK);
    // Asking to be chosen is always allowed; where it is not possible, the system chooses as it likes.
    let _ = std::fs::write("/proc/self/oom_score_adj", ENDED_RATHER);
    let log = tracing_subscriber::fmt()
        .with_writer(std::io::stderr)
        .with_target(false);
    log.with_ansi(false).without_time().init();
    let socket = std::io::stdin().as_fd().try_clone_to_owned().map_err(Failure::failed)?;
    let listener = UnixListener::from(socket);
    if listener.local_addr().is_err() {
        return Err(Failure::usage(
            "a worker is started by its service, which gives it a socket",
        ));
    }
    serve(&listener, || std::process::exit(FAILED)).map_err(Failure::failed)?;
    // Nothing is left to be written, and what it has in memory ends with it.
    std::process::exit(0)
}
