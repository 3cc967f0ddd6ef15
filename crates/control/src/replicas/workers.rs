//! The workers of a service: how they are started, and where they are found.

use crate::replicas::deadline::Deadline;
use std::collections::BTreeMap;
use std::fs::Permissions;
use std::io::Write;
use std::os::unix::fs::{OpenOptionsExt, PermissionsExt};
use std::path::Path;
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};
use vastrelay_serving::process::{Folder, FolderError, Log, Process, Program};
use vastrelay_serving::worker::client::{StartProgress, WorkerError};
use vastrelay_serving::worker::protocol::TokenTable;
use vastrelay_serving::worker::{Connection, Secret, WorkerConfig, WorkerEngine};

/// The folder of sockets and logs, in a service's data.
const FOLDER: &str = "workers";
/// The file with the secret that a service and its workers share.
const SECRET: &str = "worker.secret";

/// How long a worker may take to end that has failed to begin.
const START_FAILED_LIMIT: Duration = Duration::from_secs(1);
/// Time between two looks at whether workers have ended.
const LOOK: Duration = Duration::from_millis(5);

/// Why there can be no workers.
#[derive(Debug, thiserror::Error)]
pub enum WorkersError {
    /// Their folder.
    #[error(transparent)]
    Folder(#[from] FolderError),
    /// Their secret.
    #[error("{path} cannot be used: {source}")]
    Secret {
        /// The file.
        path: std::path::PathBuf,
        /// Why.
        source: std::io::Error,
    },
}

/// Starts workers.
pub struct Workers {
    program: Program,
    folder: Folder,
    secret: Secret,
    /// Shortest silence that is a hang.
    pub hang_after: Duration,
    /// How long a worker waits for another service when this one is gone.
    stay: Duration,
    /// Workers of an earlier service that are not adopted yet, by incarnation.
    found: Mutex<BTreeMap<u64, Found>>,
    /// Processes that do not take commands yet, by incarnation.
    starting: Mutex<BTreeMap<u64, Process>>,
    /// The threads of supervisors.
    supervisors: Mutex<Vec<JoinHandle<()>>>,
}

/// A worker that an earlier service has left.
struct Found {
    name: String,
    process: Process,
    connection: Connection,
}

/// A worker that takes commands.
pub struct Running {
    pub process: Process,
    pub engine: WorkerEngine,
    pub log: Log,
}

/// A worker that could not begin.
pub struct FailedStart {
    /// Why, in words.
    pub why: String,
    /// The last that it said.
    pub last_words: Vec<String>,
}

impl FailedStart {
    fn of(why: String) -> FailedStart {
        FailedStart {
            why,
            last_words: Vec::new(),
        }
    }
}

impl Workers {
    /// Returns the workers of a service with this data, which run a program that calls [`vastrelay_serving::worker::serve()`]. A busy worker
    /// counts as hung after a silence of `hang_after` that is also far longer than its steps take. When their service is gone, workers wait
    /// for the next service for as long as `stay`, which can adopt them.
    ///
    /// # Errors
    /// When the folder or the file that they need cannot be used.
    pub fn new(program: Program, data: &Path, hang_after: Duration, stay: Duration) -> Result<Workers, WorkersError> {
        let path = data.join(SECRET);
        let secret = secret(&path).map_err(|source| WorkersError::Secret { path, source })?;
        let folder = Folder::open(&data.join(FOLDER))?;
        Ok(Workers {
            program,
            found: Mutex::default(),
            folder,
            secret,
            hang_after,
            stay,
            starting: Mutex::default(),
            supervisors: Mutex::default(),
        })
    }

    /// Returns the folder of its workers' sockets and logs.
    pub fn folder(&self) -> &Path {
        self.folder.path()
    }

    /// Starts a worker and waits until it takes commands. It ends at once where it was given up before its process was known.
    ///
    /// # Errors
    /// When it does not come so far, or not within the limit.
    pub fn start(
        &self,
        config: WorkerConfig,
        tokens: TokenTable,
        limit: Option<Duration>,
        heard: impl FnMut(StartProgress) + Send + 'static,
        given_up: &dyn Fn() -> bool,
    ) -> Result<Running, FailedStart> {
        let name = config.incarnation.to_string();
        let started = self.program.start(&self.folder, &name, config.assignment.path());
        let (process, socket, mut log) =
            started.map_err(|error| FailedStart::of(format!("its worker cannot be started: {error}")))?;
        let incarnation = config.incarnation;
        self.is_starting(incarnation, process.id);
        if given_up() {
            process.kill();
        }
        let deadline = Deadline::with(process.id, limit);
        let begun = Connection::open(socket, &self.secret);
        let begun = begun.and_then(|worker| worker.start(config, tokens, self.stay, heard));
        let took_too_long = deadline.is_ok_and(Deadline::ends);
        self.starting().remove(&incarnation);
        match begun {
            Ok(engine) => Ok(Running { process, engine, log }),
            Err(error) => {
                let how = process.finish(START_FAILED_LIMIT);
                let last_words = log.lines().unwrap_or_default();
                self.folder.remove(&name);
                let why = match error {
                    _ if took_too_long => {
                        let seconds = limit.unwrap_or_default().as_secs_f64();
                        format!("it was not ready after {seconds} s, for as long as a start may take (`limits.start`)")
                    }
                    WorkerError::Lost(_) => how.to_string(),
                    said => said.to_string(),
                };
                Err(FailedStart { why, last_words })
            }
        }
    }

    /// Looks for workers that an earlier service has left, and returns them; this takes some seconds where one does not answer.
    pub fn find(&self) -> Vec<WorkerConfig> {
        let names = self.folder.names().into_iter();
        let found = names.filter_map(|name| found_under(&self.folder, name, &self.secret));
        let mut configs = Vec::new();
        for found in found {
            match found.connection.identity.config.clone() {
                Some(config) => {
                    self.found().insert(config.incarnation, found);
                    configs.push(config);
                }
                // It was never told what to be.
                None => self.end(found),
            }
        }
        configs
    }

    /// Returns the highest number of a worker that an earlier service has left, whether it answers or not.
    pub fn last_left(&self) -> u64 {
        let names = self.folder.names().into_iter();
        names.filter_map(|name| name.parse().ok()).max().unwrap_or(0)
    }

    /// Takes over a worker that was found.
    ///
    /// # Errors
    /// When it is no more, or cannot be taken over; nothing is left of it then.
    pub fn adopt(
        &self,
        incarnation: u64,
        endpoint: &str,
        heard: impl FnMut(StartProgress) + Send + 'static,
    ) -> Result<Running, FailedStart> {
        let found = self.found().remove(&incarnation);
        let Found {
            name,
            process,
            connection,
        } = found.ok_or_else(|| FailedStart::of("the worker of the earlier service is no more".into()))?;
        let program = connection.identity.program.clone();
        let log = match self.folder.log(&name).and_then(Log::at_end) {
            Ok(log) => log,
            Err(error) => {
                self.end(Found {
                    name,
                    process,
                    connection,
                });
                return Err(FailedStart::of(format!("its log cannot be read: {error}")));
            }
        };
        self.is_starting(incarnation, process.id);
        let adopted = connection.adopt(heard);
        self.starting().remove(&incarnation);
        match adopted {
            Ok(engine) => {
                tracing::info!(endpoint, incarnation, program, "took over a worker");
                Ok(Running { process, engine, log })
            }
            Err(error) => {
                tracing::warn!(endpoint, %error, "a worker could not be taken over");
                process.finish(Duration::ZERO);
                self.folder.remove(&name);
                Err(FailedStart::of(error.to_string()))
            }
        }
    }

    /// Ends a worker that was found and not adopted; returns whether there was one.
    pub fn end_found(&self, incarnation: u64) -> bool {
        let found = self.found().remove(&incarnation);
        let is_there = found.is_some();
        if let Some(found) = found {
            tracing::info!(
                worker = found.name,
                "ended a worker of an earlier service; no endpoint uses it"
            );
            self.end(found);
        }
        is_there
    }

    /// Ends a worker at once that does not take commands yet.
    pub fn kill_starting(&self, incarnation: u64) {
        self.starting().get(&incarnation).into_iter().for_each(Process::kill);
    }

    /// Notes the process of a worker that does not take commands yet.
    fn is_starting(&self, incarnation: u64, process: u32) {
        if let Ok(process) = Process::of(process) {
            self.starting().insert(incarnation, process);
        }
    }

    /// Ends a worker of an earlier service and removes its files.
    fn end(&self, found: Found) {
        found.connection.end();
        found.process.finish(START_FAILED_LIMIT);
        self.folder.remove(&found.name);
    }

    /// Runs the supervisor of a worker on a separate thread.
    ///
    /// # Errors
    /// When the system refuses a thread.
    pub fn supervise(&self, supervisor: impl FnOnce() + Send + 'static) -> std::io::Result<()> {
        let thread = std::thread::Builder::new().name("worker".into()).spawn(supervisor)?;
        let mut supervisors = self.supervisors.lock().unwrap_or_else(PoisonError::into_inner);
        supervisors.retain(|thread| !thread.is_finished());
        supervisors.push(thread);
        Ok(())
    }

    fn starting(&self) -> MutexGuard<'_, BTreeMap<u64, Process>> {
        self.starting.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn found(&self) -> MutexGuard<'_, BTreeMap<u64, Found>> {
        self.found.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Waits until all workers are gone, for so long at most. Workers that do not take commands yet end at once.
    pub fn wait_for_end(&self, limit: Duration) {
        self.starting().values().for_each(Process::kill);
        let until = Instant::now() + limit;
        let all = || self.supervisors.lock().unwrap_or_else(PoisonError::into_inner);
        while Instant::now() < until && !all().iter().all(JoinHandle::is_finished) {
            std::thread::sleep(LOOK);
        }
    }

    /// Removes what a worker that is gone has left.
    pub fn forget(&self, incarnation: u64) {
        self.folder.remove(&incarnation.to_string());
    }
}

/// Connects to what an earlier service has left under a name.
fn found_under(folder: &Folder, name: String, secret: &Secret) -> Option<Found> {
    let Ok(socket) = folder.connect(&name) else {
        // Nobody listens there.
        folder.remove(&name);
        return None;
    };
    let connection = Connection::open(socket, secret)
        .inspect_err(|error| tracing::warn!(worker = name, %error, "a worker cannot be taken over; it ends by itself"))
        .ok()?;
    match Process::of(connection.identity.process) {
        Ok(process) => Some(Found {
            name,
            process,
            connection,
        }),
        Err(error) => {
            tracing::warn!(worker = name, %error, "a worker was ended, as its process cannot be watched");
            connection.end();
            None
        }
    }
}

/// Returns the secret in a file, or a new one that is written there.
fn secret(path: &Path) -> std::io::Result<Secret> {
    // The mode of a file that exists already is not changed by opening it.
    if path.exists() {
        std::fs::set_permissions(path, Permissions::from_mode(0o600))?;
    }
    if let Ok(bytes) = vastrelay_files::read(path, 64)
        && let Ok(bytes) = <[u8; 32]>::try_from(bytes)
    {
        return Ok(Secret(bytes));
    }
    let mut bytes = [0; 32];
    getrandom::fill(&mut bytes).map_err(std::io::Error::other)?;
    let mut file = std::fs::OpenOptions::new()
        .write(true)
        .create(true)
        .truncate(true)
        .mode(0o600)
        .open(path)?;
    file.write_all(&bytes)?;
    Ok(Secret(bytes))
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::os::unix::fs::PermissionsExt;

    #[test]
    fn the_secret_is_its_users_alone_also_where_the_file_was_open_to_others() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("worker.secret");
        let mode = || std::fs::metadata(&path).unwrap().permissions().mode() & 0o777;
        let first = secret(&path).unwrap();
        assert_eq!(mode(), 0o600);
        std::fs::set_permissions(&path, Permissions::from_mode(0o644)).unwrap();
        assert!(secret(&path).unwrap() == first, "it stays what it was");
        assert_eq!(mode(), 0o600);
        std::fs::write(&path, "cut short").unwrap();
        std::fs::set_permissions(&path, Permissions::from_mode(0o666)).unwrap();
        assert!(secret(&path).unwrap() != first);
        assert_eq!(mode(), 0o600);
    }
}
