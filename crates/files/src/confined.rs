//! Files that a caller may name because they lie beneath a root.
//!
//! A confined path is written `ROOT/./REST`: it names the same file to the system, and says where its root ends. Every open
//! of such a path starts at the root's descriptor and never leaves it, by links or otherwise; the system checks that while it
//! opens (`openat2` with `RESOLVE_BENEATH`), so nothing can be exchanged between a check and its use.

use crate::reason::reason;
use rustix::fs::{Mode, OFlags, ResolveFlags, openat2};
use std::ffi::OsStr;
use std::fs::File;
use std::io;
use std::os::fd::AsRawFd;
use std::os::unix::ffi::OsStrExt;
use std::path::{Component, Path, PathBuf};
use std::sync::{Arc, PoisonError, RwLock};

/// Stands between a root and the rest of a confined path.
const MARK: &[u8] = b"/./";

/// The descriptors of the roots that this process opens files beneath.
static HELD: RwLock<Vec<(PathBuf, Arc<File>)>> = RwLock::new(Vec::new());

/// Folders beneath which callers may name files.
#[derive(Clone, Debug, Default)]
pub struct Roots(Vec<PathBuf>);

impl Roots {
    /// Opens folders as roots; their descriptors are held until the process ends.
    ///
    /// # Errors
    /// When one is no folder or cannot be opened; the error names it.
    pub fn open(folders: &[PathBuf]) -> io::Result<Roots> {
        let open = |folder: &PathBuf| {
            let named =
                |error: io::Error| io::Error::new(error.kind(), format!("{}: {}", folder.display(), reason(&error)));
            let root = folder.canonicalize().map_err(named)?;
            let opened = File::open(&root).map_err(named)?;
            if !opened.metadata().map_err(named)?.is_dir() {
                return Err(named(io::ErrorKind::NotADirectory.into()));
            }
            hold(root.clone(), opened);
            Ok(root)
        };
        folders.iter().map(open).collect::<io::Result<_>>().map(Roots)
    }

    /// Returns the folders.
    pub fn folders(&self) -> &[PathBuf] {
        &self.0
    }

    /// Returns a path, confined to the root that it lies beneath; `None` when it lies beneath none. It is not opened here.
    pub fn confine(&self, path: &Path) -> Option<PathBuf> {
        // With `..` in it, a path could lie elsewhere than it seems.
        if path.components().any(|part| part == Component::ParentDir) {
            return None;
        }
        self.0.iter().find_map(|root| {
            let rest: PathBuf = path.strip_prefix(root).ok()?.components().collect();
            let mut confined = root.as_os_str().as_bytes().to_owned();
            confined.extend_from_slice(MARK);
            confined.extend_from_slice(rest.as_os_str().as_bytes());
            Some(PathBuf::from(OsStr::from_bytes(&confined)))
        })
    }
}

/// Returns whether a path is confined to a root.
pub fn is_confined(path: &Path) -> bool {
    parts(path).is_some()
}

/// Returns a path as people write it, without the mark of its root.
pub fn shown(path: &Path) -> PathBuf {
    match parts(path) {
        Some((root, rest)) => root.join(rest),
        None => path.to_owned(),
    }
}

/// Returns a folder for a child process to run in: the root of a confined path, reached through its descriptor.
///
/// # Errors
/// When the root cannot be opened.
pub fn working_directory(path: &Path) -> io::Result<Option<WorkingDirectory>> {
    let root = parts(path).map(|(root, _)| held(root)).transpose()?;
    Ok(root.map(WorkingDirectory))
}

/// The root of a confined path, as the folder of a child process.
pub struct WorkingDirectory(Arc<File>);

impl WorkingDirectory {
    /// Returns its path, which is valid while this value lives.
    pub fn path(&self) -> PathBuf {
        Path::new("/proc/self/fd").join(self.0.as_raw_fd().to_string())
    }
}

/// Takes the working directory as the root of a confined path: the counterpart of [`working_directory`] in the child.
///
/// # Errors
/// When the working directory cannot be opened.
pub fn take_working_directory(path: &Path) -> io::Result<()> {
    if let Some((root, _)) = parts(path) {
        hold(root.to_owned(), File::open(".")?);
    }
    Ok(())
}

/// Opens a confined path; `None` for any other one.
pub(crate) fn open(path: &Path) -> Option<io::Result<File>> {
    let (root, rest) = parts(path)?;
    Some(open_beneath(root, rest))
}

fn open_beneath(root: &Path, rest: &Path) -> io::Result<File> {
    let root = held(root)?;
    let rest = if rest.as_os_str().is_empty() {
        Path::new(".")
    } else {
        rest
    };
    // Opening a pipe would wait for its other end.
    let flags = OFlags::RDONLY | OFlags::CLOEXEC | OFlags::NONBLOCK;
    let resolve = ResolveFlags::BENEATH | ResolveFlags::NO_MAGICLINKS;
    match openat2(&root, rest, flags, Mode::empty(), resolve) {
        Ok(file) => Ok(File::from(file)),
        Err(rustix::io::Errno::XDEV) => Err(crate::refused("it is a link out of its root".into())),
        Err(error) => Err(error.into()),
    }
}

fn hold(root: PathBuf, opened: File) {
    let mut held = HELD.write().unwrap_or_else(PoisonError::into_inner);
    if !held.iter().any(|(path, _)| *path == root) {
        held.push((root, Arc::new(opened)));
    }
}

fn held(root: &Path) -> io::Result<Arc<File>> {
    let held = HELD.read().unwrap_or_else(PoisonError::into_inner);
    let found = held.iter().find(|(path, _)| path == root);
    let missing = || crate::refused(format!("{} is no root of this process", root.display()));
    found.map(|(_, file)| file.clone()).ok_or_else(missing)
}

fn parts(path: &Path) -> Option<(&Path, &Path)> {
    let bytes = path.as_os_str().as_bytes();
    let at = bytes.windows(MARK.len()).position(|part| part == MARK)?;
    let of = |bytes| Path::new(OsStr::from_bytes(bytes));
    Some((of(&bytes[..at]), of(&bytes[at + MARK.len()..])))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{open as open_file, read};
    use std::os::unix::fs::symlink;

    #[test]
    fn only_what_lies_beneath_a_root_is_named_and_opened_also_through_links() {
        let (folder, outside) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
        let root = folder.path().canonicalize().unwrap();
        std::fs::create_dir(root.join("desk")).unwrap();
        std::fs::write(root.join("desk/a"), "own").unwrap();
        std::fs::write(outside.path().join("secret"), "other").unwrap();
        symlink(outside.path().join("secret"), root.join("desk/absolute")).unwrap();
        symlink("../../../../../../../../etc/hostname", root.join("desk/climbing")).unwrap();
        symlink("a", root.join("desk/near")).unwrap();
        symlink(outside.path(), root.join("folder")).unwrap();
        let roots = Roots::open(std::slice::from_ref(&root)).unwrap();
        let confine = |path: &str| roots.confine(&root.join(path)).unwrap();
        assert_eq!(read(&confine("desk/a"), 9).unwrap(), b"own");
        assert_eq!(read(&confine("desk").join("near"), 9).unwrap(), b"own");
        for path in ["desk/absolute", "desk/climbing", "folder/secret"] {
            assert!(read(&confine(path), 9).is_err(), "{path}");
        }
        assert!(open_file(&confine("desk"), 9).is_err(), "a folder is no file");
        assert!(open_file(&confine(""), 9).is_err());
        for path in [
            outside.path().join("secret"),
            root.join("../etc/passwd"),
            "/etc/passwd".into(),
        ] {
            assert_eq!(roots.confine(&path), None, "{}", path.display());
        }
        assert_eq!(shown(&confine("desk/a")), root.join("desk/a"));
        assert!(is_confined(&confine("desk")) && !is_confined(&root));
    }

    #[test]
    fn a_root_that_was_exchanged_is_still_the_one_that_was_opened() {
        let folder = tempfile::tempdir().unwrap();
        let root = folder.path().canonicalize().unwrap().join("models");
        std::fs::create_dir(&root).unwrap();
        std::fs::write(root.join("a"), "first").unwrap();
        let roots = Roots::open(std::slice::from_ref(&root)).unwrap();
        std::fs::rename(&root, folder.path().join("moved")).unwrap();
        std::fs::create_dir(&root).unwrap();
        std::fs::write(root.join("a"), "second").unwrap();
        assert_eq!(read(&roots.confine(&root.join("a")).unwrap(), 9).unwrap(), b"first");
    }

    #[test]
    fn a_path_beneath_no_root_of_this_process_is_not_opened() {
        let error = read(Path::new("/etc/./hostname"), 99).unwrap_err();
        assert!(error.to_string().contains("no root of this process"), "{error}");
    }
}
