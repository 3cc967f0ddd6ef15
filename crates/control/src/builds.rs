//! Models that are converted once: found by what they are made of and how.

use crate::deployments::request::DeployRequest;
use crate::jobs::{Job, JobEnd, Jobs, NewJob};
use serde_json::json;
use std::collections::BTreeMap;
use std::fs::File;
use std::io::{Read, Write};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::atomic::{AtomicU32, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};
use vastrelay_files::Stamp;
use vastrelay_planner::amounts::bytes;
use vastrelay_serving::models::build::{Conversion, converted_bytes, partial_of};
use vastrelay_serving::process::{Process, Program};
use vastrelay_serving::{KvPrecision, LoadError, Precision, Precisions};
use vastrelay_store::{BuildRecord, Store, StoreError, milliseconds_since_1970};
use vastrelay_weights::build::Checked;
use vastrelay_weights::{Build, ModelFiles, WeightsError};

/// The folder of builds, in a service's data.
const FOLDER: &str = "builds";
/// Time between two looks at how far a conversion is.
const LOOK: Duration = Duration::from_millis(100);
/// What a conversion takes beside its result, as a part of that.
const BESIDE: usize = 8;
/// Lines of a failed conversion that are in its reason.
const LAST_LINES: usize = 5;
/// Bytes that are hashed together.
const CHUNK: usize = 1 << 20;

/// Makes builds and finds those that were made.
pub struct Builds {
    folder: PathBuf,
    /// Runs a conversion, in a separate process.
    program: Program,
    store: Arc<Store>,
    jobs: Arc<Jobs>,
    /// The memory that the machine has free now.
    available: fn() -> usize,
    /// Builds that endpoints use or are about to use, by digest, with a holder for each use: they are not deleted.
    held: Arc<Mutex<BTreeMap<String, Vec<String>>>>,
}

/// Keeps a build from being deleted, until it is dropped.
struct Hold {
    held: Arc<Mutex<BTreeMap<String, Vec<String>>>>,
    digest: String,
    holder: String,
}

impl Drop for Hold {
    fn drop(&mut self) {
        let mut held = self.held.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(holders) = held.get_mut(&self.digest) {
            if let Some(place) = holders.iter().position(|holder| *holder == self.holder) {
                holders.swap_remove(place);
            }
            if holders.is_empty() {
                held.remove(&self.digest);
            }
        }
    }
}

/// A build that is being made.
struct Making<'a> {
    job: &'a Job,
    /// The process that converts, where there is one.
    process: &'a AtomicU32,
    request: BuildRequest<'a>,
}

/// The requester of a build.
#[derive(Clone, Copy)]
pub struct BuildRequest<'a> {
    /// Returns whether the requester has given up.
    pub given_up: &'a dyn Fn() -> bool,
    /// Takes what the conversion says.
    pub hears: &'a dyn Fn(&[String]),
}

/// A build that is there.
pub struct Ready {
    /// Its folder.
    pub folder: PathBuf,
    /// The digest of its source.
    pub digest: String,
    /// How long it took to be made, where it was made now.
    pub took: Option<Duration>,
    /// Until its use is noted.
    _hold: Hold,
}

/// A build that is not there yet, as it will be.
pub struct Absent(Ready);

/// The result of a search for a build.
pub enum Search {
    /// It.
    There(Ready),
    /// No build yet, with the data to make one.
    Absent(Absent),
}

impl Builds {
    /// Returns the builds in a service's data; what an earlier service has left half made, or nobody has used for long, is removed.
    ///
    /// # Errors
    /// When their folder cannot be made.
    pub fn open(
        data: &Path,
        program: Program,
        store: Arc<Store>,
        jobs: Arc<Jobs>,
        available: fn() -> usize,
    ) -> std::io::Result<Builds> {
        let folder = data.join(FOLDER);
        std::fs::create_dir_all(&folder)?;
        let builds = Builds {
            folder,
            program,
            store,
            jobs,
            available,
            held: Arc::default(),
        };
        builds.release("").map_err(std::io::Error::other)?;
        let known = builds.store.builds().map_err(std::io::Error::other)?;
        for entry in std::fs::read_dir(&builds.folder)?.flatten() {
            let name = entry.file_name();
            if !known.iter().any(|build| name == *build.digest) {
                std::fs::remove_dir_all(entry.path())?;
            }
        }
        Ok(builds)
    }

    /// Returns the endpoints that use a build or are about to, in the order of their names.
    pub fn holders(&self, digest: &str) -> Vec<String> {
        let held = self.held.lock().unwrap_or_else(PoisonError::into_inner);
        let mut holders = held.get(digest).cloned().unwrap_or_default();
        holders.sort();
        holders.dedup();
        holders
    }

    /// Keeps a build from being deleted while an endpoint uses it.
    fn hold(&self, digest: &str, holder: &str) -> Hold {
        let mut held = self.held.lock().unwrap_or_else(PoisonError::into_inner);
        held.entry(digest.to_owned()).or_default().push(holder.to_owned());
        Hold {
            holder: holder.to_owned(),
            held: self.held.clone(),
            digest: digest.to_owned(),
        }
    }

    /// Looks for the build of a checkpoint in a precision, for an endpoint.
    ///
    /// # Errors
    /// When the source cannot be read.
    pub fn find(&self, endpoint: &str, files: &ModelFiles, weights: Precision) -> Result<Search, LoadError> {
        let digest = self.digest_of(files.path(), weights)?;
        let (folder, hold) = (self.folder.join(&digest), self.hold(&digest, endpoint));
        let ready = Ready {
            folder,
            digest,
            took: None,
            _hold: hold,
        };
        if !Build::is_one(&ready.folder) {
            return Ok(Search::Absent(Absent(ready)));
        }
        self.know(files, &ready.digest, weights, &ready.folder)?;
        Ok(Search::There(ready))
    }

    /// Makes an absent build; requesters of the same build share one conversion.
    ///
    /// # Errors
    /// When the source cannot be converted, memory or disk do not suffice, or the job is cancelled.
    pub fn start(
        &self,
        deploy: &DeployRequest,
        files: &ModelFiles,
        weights: Precision,
        Absent(ready): Absent,
        request: BuildRequest<'_>,
    ) -> Result<Ready, LoadError> {
        let begun = Instant::now();
        let process = Arc::new(AtomicU32::new(0));
        let child = process.clone();
        let wanted = NewJob {
            kind: "build",
            name: format!("{} {}", name_of(files.path()), weights.phrase()),
            endpoint: &deploy.name,
            who: &deploy.by,
        };
        let job = self.jobs.start(&wanted, move || kill(&child));
        let job = job.map_err(|error| LoadError::Refused(error.to_string()))?;
        let conversion = Conversion {
            source: files.path().to_owned(),
            out: ready.folder.clone(),
            precisions: Precisions {
                weights,
                // Each endpoint says its own.
                kv: KvPrecision::default(),
            },
        };
        let making = Making {
            job: &job,
            process: &process,
            request,
        };
        let made = self.make(&making, files, &conversion, &ready.digest);
        let (end, made) = match made {
            Ok(text) => {
                let took = Some(begun.elapsed());
                (JobEnd::Done(text), Ok(Ready { took, ..ready }))
            }
            Err(_) if (request.given_up)() => (
                JobEnd::Cancelled,
                Err(LoadError::Refused("its change was withdrawn".into())),
            ),
            Err(_) if job.is_cancelled() => {
                let text = format!("job {}, which builds it, was cancelled", job.number());
                (JobEnd::Cancelled, Err(LoadError::Refused(text)))
            }
            Err(why) => (JobEnd::Failed(why.clone()), Err(LoadError::Refused(why))),
        };
        self.jobs.ends(&job, end);
        made
    }

    /// Makes a build when it is its turn; returns what came of it.
    fn make(
        &self,
        making: &Making<'_>,
        files: &ModelFiles,
        conversion: &Conversion,
        digest: &str,
    ) -> Result<String, String> {
        let job = making.job;
        let _turn = self.jobs.turn(job, making.request.given_up).ok_or("it was cancelled")?;
        if Build::is_one(&conversion.out) {
            return Ok(format!("{digest} was made meanwhile"));
        }
        let size = converted_bytes(files, conversion.precisions.weights).map_err(|error| error.to_string())?;
        self.check_room(size)?;
        job.log(&format!(
            "converting {} {}, about {}",
            conversion.source.display(),
            conversion.precisions.weights.phrase(),
            bytes(size)
        ));
        let partial = partial_of(&conversion.out);
        let converted = self.convert(making, conversion, size);
        if converted.is_err() {
            // A killed conversion leaves its partial folder.
            let _ = std::fs::remove_dir_all(&partial);
        }
        converted?;
        let Precisions { weights, .. } = conversion.precisions;
        let now = self
            .digest_of(&conversion.source, weights)
            .map_err(|error| error.to_string())?;
        if now != digest {
            let _ = std::fs::remove_dir_all(&conversion.out);
            return Err("the model's files were changed while they were converted; deploy it again".into());
        }
        self.know(files, digest, weights, &conversion.out)
            .map_err(|error| error.to_string())?;
        let text = format!("{digest}, {}", bytes(size_of(&conversion.out) as usize));
        job.log(&format!("done: {text}"));
        Ok(text)
    }

    /// Makes sure that a build which is there is listed.
    fn know(&self, files: &ModelFiles, digest: &str, weights: Precision, folder: &Path) -> Result<(), LoadError> {
        let failed = |error: vastrelay_store::StoreError| LoadError::Refused(error.to_string());
        let known = self.store.builds().map_err(failed)?;
        if known.iter().any(|build| build.digest == digest) {
            return Ok(());
        }
        let kept = self.store.keep_build(&BuildRecord {
            digest: digest.into(),
            source: vastrelay_files::shown(files.path()).display().to_string(),
            precision: weights.to_string(),
            at_ms: milliseconds_since_1970(),
            bytes: size_of(folder),
            users: Vec::new(),
        });
        kept.map_err(failed)
    }

    /// Makes sure that memory and disk suffice for a build of a size.
    fn check_room(&self, size: usize) -> Result<(), String> {
        let (memory, has) = (size + size / BESIDE, (self.available)());
        if memory > has {
            return Err(format!(
                "converting takes about {} of memory, of {} that are free",
                bytes(memory),
                bytes(has)
            ));
        }
        let free = free_on_disk(&self.folder);
        if free.is_some_and(|free| size > free) {
            return Err(format!(
                "the build takes about {} on the disk of {}, which has {} free",
                bytes(size),
                self.folder.display(),
                bytes(free.unwrap_or_default())
            ));
        }
        Ok(())
    }

    /// Runs a conversion in a process of low priority and reports its progress.
    fn convert(&self, making: &Making<'_>, conversion: &Conversion, size: usize) -> Result<(), String> {
        let Making { job, process, .. } = *making;
        let root = vastrelay_files::working_directory(&conversion.source);
        let root = root.map_err(|error| format!("{} cannot be read: {error}", conversion.source.display()))?;
        let mut command = Command::new(&self.program.path);
        if let Some(root) = &root {
            command.current_dir(root.path());
        }
        let mut child = command
            .args(&self.program.words)
            .env_clear()
            .stdin(Stdio::piped())
            .stdout(Stdio::null())
            .stderr(Stdio::piped())
            .spawn()
            .map_err(|error| format!("its process cannot be started: {error}"))?;
        process.store(child.id(), Ordering::Release);
        let request = serde_json::to_vec(conversion).map_err(|error| error.to_string())?;
        if let Some(mut input) = child.stdin.take() {
            // One that has ended already says why.
            let _ = input.write_all(&request);
        }
        let said = collect(&mut child);
        let partial = partial_of(&conversion.out);
        let status = loop {
            if job.is_cancelled() || (making.request.given_up)() {
                let _ = child.kill();
            }
            match child.try_wait() {
                Ok(Some(status)) => break status,
                Ok(None) => std::thread::sleep(LOOK),
                Err(error) => return Err(error.to_string()),
            }
            let done = anonymous_memory(child.id()).min(size) + (size_of(&partial) as usize).min(size);
            job.is_so_far(done as f64 / (2 * size).max(1) as f64);
        };
        process.store(0, Ordering::Release);
        let said = said.map(|said| std::mem::take(&mut *said.lock().unwrap_or_else(PoisonError::into_inner)));
        let said = said.unwrap_or_default();
        let lines: Vec<String> = said.lines().map(str::to_owned).collect();
        lines.iter().for_each(|line| job.log(line));
        (making.request.hears)(&lines);
        if status.success() {
            return Ok(());
        }
        let last = &lines[lines.len().saturating_sub(LAST_LINES)..];
        Err(format!(
            "its process ended with {status}: {}",
            last.join(" | ").trim_start_matches("error: ")
        ))
    }

    /// Returns the digest of what a build is made of and how.
    fn digest_of(&self, source: &Path, weights: Precision) -> Result<String, LoadError> {
        let mut hasher = blake3::Hasher::new();
        for file in sources(source) {
            let (size, digest) = self.digest_of_file(&file)?;
            let name = file.file_name().unwrap_or_default().to_string_lossy().into_owned();
            hasher.update(json!([name, size, digest]).to_string().as_bytes());
        }
        let how = json!([weights.word(), weights.group(), vastrelay_weights::build::VERSION]);
        hasher.update(how.to_string().as_bytes());
        Ok(hasher.finalize().to_hex()[..32].to_owned())
    }

    /// Returns the size and the digest of a file, which is read once as long as it stays as it is.
    fn digest_of_file(&self, path: &Path) -> Result<(u64, String), LoadError> {
        let failed = |error: std::io::Error| unreadable(path, &error);
        let mut file = vastrelay_files::open(path, u64::MAX).map_err(failed)?;
        let size = file.metadata().map_err(failed)?.len();
        let stamp = Stamp::of(&file).map_err(failed)?;
        let stamp = stamp.and_then(|stamp| serde_json::to_string(&stamp).ok());
        let named = vastrelay_files::shown(path).display().to_string();
        if let Some(stamp) = &stamp
            && let Ok(Some(digest)) = self.store.digest(&named, stamp)
        {
            return Ok((size, digest));
        }
        let (mut hasher, mut chunk) = (blake3::Hasher::new(), vec![0; CHUNK]);
        loop {
            match file.read(&mut chunk).map_err(failed)? {
                0 => break,
                read => hasher.update(&chunk[..read]),
            };
        }
        let digest = hasher.finalize().to_hex().to_string();
        if let Some(stamp) = stamp {
            // Without a stored digest, the next search reads the file again.
            let _ = self.store.keep_digest(&named, &stamp, &digest);
        }
        Ok((size, digest))
    }

    /// Returns that a build is what was written, as far as that is known without reading it again.
    ///
    /// # Errors
    /// When it cannot be read.
    pub fn checked(&self, ready: &Ready) -> Result<Option<Checked>, LoadError> {
        let path = Build::tensors_of(&ready.folder);
        let stamp = File::open(&path).and_then(|file| Stamp::of(&file));
        // A missing file is a fault of the build like any other: it is made again.
        let stamp = stamp.map_err(|source| {
            LoadError::Weights(WeightsError::Read {
                path: path.clone(),
                source,
            })
        });
        match stamp? {
            None => Ok(None),
            Some(stamp) => Ok(Some(Checked::of(stamp, self.digest_of_file(&path)?.1))),
        }
    }

    /// Forgets what an endpoint uses, and deletes the builds that nobody uses any more; returns them.
    ///
    /// # Errors
    /// The database's own.
    pub fn release(&self, endpoint: &str) -> Result<Vec<BuildRecord>, StoreError> {
        // While the lock is held, no replica starts to use a build.
        let held = self.held.lock().unwrap_or_else(PoisonError::into_inner);
        let digests: Vec<String> = held.keys().cloned().collect();
        let unused = self.store.release_builds(endpoint, &digests)?;
        for build in &unused {
            if let Err(error) = std::fs::remove_dir_all(self.folder.join(&build.digest)) {
                tracing::warn!(build = build.digest, %error, "an unused build could not be deleted");
            }
        }
        drop(held);
        Ok(unused)
    }

    /// Deletes a damaged build; the next search makes a new one.
    pub fn discard(&self, ready: Ready) -> Absent {
        let _ = std::fs::remove_dir_all(&ready.folder);
        Absent(ready)
    }
}

/// Returns the files that a model is made of, in the order of their names.
fn sources(path: &Path) -> Vec<PathBuf> {
    if path.is_file() {
        return vec![path.to_owned()];
    }
    let is_part = |file: &PathBuf| {
        let end = file.extension().and_then(|end| end.to_str());
        file.is_file() && matches!(end, Some("safetensors" | "json" | "jinja"))
    };
    let entries = std::fs::read_dir(path).into_iter().flatten().flatten();
    let mut files: Vec<PathBuf> = entries.map(|entry| entry.path()).filter(is_part).collect();
    files.sort();
    files
}

/// Reads what a process says on a thread of its own, so that it never waits for a reader.
fn collect(child: &mut Child) -> Option<Arc<Mutex<String>>> {
    const MOST: u64 = 64 << 10;
    let output = child.stderr.take()?;
    let said = Arc::new(Mutex::new(String::new()));
    let kept = said.clone();
    let read = move || {
        let mut text = Vec::new();
        let mut output = output;
        let _ = output.by_ref().take(MOST).read_to_end(&mut text);
        kept.lock()
            .unwrap_or_else(PoisonError::into_inner)
            .push_str(&String::from_utf8_lossy(&text));
        let _ = std::io::copy(&mut output, &mut std::io::sink());
    };
    std::thread::Builder::new().name("build log".into()).spawn(read).ok()?;
    Some(said)
}

/// Ends a process that was started here, where there is one.
fn kill(process: &AtomicU32) {
    let id = process.load(Ordering::Acquire);
    if id != 0
        && let Ok(process) = Process::of(id)
    {
        process.kill();
    }
}

/// Returns the memory that a process has filled itself.
fn anonymous_memory(process: u32) -> usize {
    let status = std::fs::read_to_string(format!("/proc/{process}/status")).unwrap_or_default();
    let line = status.lines().find_map(|line| line.strip_prefix("RssAnon:"));
    let kib = line.and_then(|line| line.split_whitespace().next()?.parse::<usize>().ok());
    kib.unwrap_or(0) * 1024
}

/// Returns the bytes of the files in a folder.
fn size_of(folder: &Path) -> u64 {
    let entries = std::fs::read_dir(folder).into_iter().flatten().flatten();
    entries.filter_map(|entry| Some(entry.metadata().ok()?.len())).sum()
}

/// Returns the bytes that are free where a folder is, where the system tells.
fn free_on_disk(folder: &Path) -> Option<usize> {
    let facts = nix::sys::statvfs::statvfs(folder).ok()?;
    Some((facts.blocks_available() as usize).saturating_mul(facts.fragment_size() as usize))
}

fn unreadable(path: &Path, error: &std::io::Error) -> LoadError {
    LoadError::Refused(format!("{} cannot be read: {error}", path.display()))
}

fn name_of(path: &Path) -> String {
    path.file_name().unwrap_or_default().to_string_lossy().into_owned()
}

#[cfg(test)]
mod tests {
    use super::*;
    use vastrelay_store::Retention;

    #[test]
    fn what_memory_or_disk_cannot_hold_is_refused_with_both_numbers() {
        let data = tempfile::tempdir().unwrap();
        let store = Arc::new(Store::open(data.path(), Retention::default()).unwrap());
        let jobs = Arc::new(Jobs::new(store.clone()));
        let program = Program {
            path: "/nowhere".into(),
            words: Vec::new(),
        };
        let little = || 10 << 20;
        let builds = Builds::open(data.path(), program.clone(), store.clone(), jobs.clone(), little).unwrap();
        let refused = builds.check_room(16 << 20).unwrap_err();
        assert_eq!(
            refused,
            "converting takes about 18.0 MiB of memory, of 10.0 MiB that are free"
        );
        builds.check_room(8 << 20).unwrap();
        let builds = Builds::open(data.path(), program, store, jobs, || usize::MAX).unwrap();
        let refused = builds.check_room(1 << 60).unwrap_err();
        assert!(
            refused.contains("the build takes about") && refused.contains("free"),
            "{refused}"
        );
    }
}
