//! Processes of our own, each with a socket to listen at and a file for what it says. Nothing here knows what they do.

mod folder;
mod log;

pub use folder::{Folder, FolderError};
pub use log::Log;

use nix::errno::Errno;
use nix::poll::{PollFd, PollFlags, PollTimeout, poll};
use rustix::process::{Pid, PidfdFlags, Signal, pidfd_open, pidfd_send_signal};
use std::ffi::OsString;
use std::fmt;
use std::io;
use std::os::fd::{AsFd, OwnedFd};
use std::os::unix::net::UnixStream;
use std::os::unix::process::{CommandExt, ExitStatusExt};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, ExitStatus};
use std::time::{Duration, Instant};

/// What processes are called in the system's lists.
const NAME: &str = "vastrelay";
/// How long a process may take to end that was killed.
const KILLED_LIMIT: Duration = Duration::from_secs(10);

/// A program and its words.
#[derive(Clone, Debug)]
pub struct Program {
    /// Its file.
    pub path: PathBuf,
    /// Its words.
    pub words: Vec<String>,
}

/// A process that was started here, or one that was there before.
pub struct Process {
    /// The number that the system gave it.
    pub id: u32,
    /// Stands for this process, also when its number has gone to another one.
    handle: OwnedFd,
    child: Option<Child>,
}

impl Program {
    /// Starts it and connects to it. Its standard input is the socket that it listens at, `name` in the folder; what it says goes to the
    /// file `name` there. It has no environment, and a group of its own, so that what is typed at a terminal does not reach it. When it
    /// reads a path that is confined to a root, its working directory is that root.
    ///
    /// # Errors
    /// When the system refuses, or the process ends at once; nothing of it is left then.
    pub fn start(&self, folder: &Folder, name: &str, reads: &Path) -> io::Result<(Process, UnixStream, Log)> {
        self.try_start(folder, name, reads).inspect_err(|_| folder.remove(name))
    }

    fn try_start(&self, folder: &Folder, name: &str, reads: &Path) -> io::Result<(Process, UnixStream, Log)> {
        let said = Log::new(folder.log(name)?);
        let listener = folder.listen(name)?;
        let log = folder.log(name)?;
        let root = vastrelay_files::working_directory(reads)?;
        let mut command = Command::new(&self.path);
        if let Some(root) = &root {
            command.current_dir(root.path());
        }
        let child = command
            .arg0(NAME)
            .args(&self.words)
            .env_clear()
            .stdin(OwnedFd::from(listener))
            .stdout(log.try_clone()?)
            .stderr(log)
            .process_group(0)
            .spawn()?;
        let process = Process {
            id: child.id(),
            handle: handle(child.id())?,
            child: Some(child),
        };
        // It waits in the socket's line until the process takes it.
        match folder.connect(name) {
            Ok(socket) => Ok((process, socket, said)),
            Err(error) => {
                process.finish(Duration::ZERO);
                Err(error)
            }
        }
    }
}

impl Process {
    /// Returns one that was there before and lives.
    ///
    /// # Errors
    /// When there is none.
    pub fn of(id: u32) -> io::Result<Process> {
        let handle = handle(id)?;
        Ok(Process {
            id,
            handle,
            child: None,
        })
    }

    /// Waits until it has ended, for so long at most, and ends it then.
    pub fn finish(mut self, longest_wait: Duration) -> Finish {
        if !self.ends_within(longest_wait) {
            self.kill();
            self.ends_within(KILLED_LIMIT);
        }
        match self.child.as_mut().map(Child::wait) {
            Some(Ok(status)) => Finish::of(status),
            _ => Finish::Unknown,
        }
    }

    /// Ends it at once.
    pub fn kill(&self) {
        // One that has ended needs no signal.
        let _ = pidfd_send_signal(&self.handle, Signal::KILL);
    }

    fn ends_within(&self, longest_wait: Duration) -> bool {
        let until = Instant::now() + longest_wait;
        loop {
            let left = until.saturating_duration_since(Instant::now());
            let left = PollTimeout::try_from(left).unwrap_or(PollTimeout::MAX);
            let mut ended = [PollFd::new(self.handle.as_fd(), PollFlags::POLLIN)];
            match poll(&mut ended, left) {
                Ok(0) if Instant::now() >= until => return false,
                Ok(0) | Err(Errno::EINTR) => {}
                Ok(_) => return true,
                Err(_) => return false,
            }
        }
    }
}

/// Returns what stands for a process of a number.
fn handle(id: u32) -> io::Result<OwnedFd> {
    let id = i32::try_from(id).ok().and_then(Pid::from_raw);
    let id = id.ok_or_else(|| io::Error::other("there is no such process"))?;
    Ok(pidfd_open(id, PidfdFlags::empty())?)
}

/// How a process ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Finish {
    /// With a code.
    Code(i32),
    /// By a signal.
    Signal(i32),
    /// Nobody was told.
    Unknown,
}

impl Finish {
    fn of(status: ExitStatus) -> Finish {
        match (status.code(), status.signal()) {
            (Some(code), _) => Finish::Code(code),
            (None, Some(signal)) => Finish::Signal(signal),
            (None, None) => Finish::Unknown,
        }
    }
}

impl fmt::Display for Finish {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Finish::Code(code) => write!(f, "it ended with code {code}"),
            Finish::Signal(number) => match nix::sys::signal::Signal::try_from(*number) {
                Ok(signal) => write!(f, "it was ended by {signal}"),
                Err(_) => write!(f, "it was ended by signal {number}"),
            },
            Finish::Unknown => f.write_str("it has ended"),
        }
    }
}

/// Returns a name with an ending.
fn named(name: &str, end: &str) -> OsString {
    format!("{name}.{end}").into()
}
