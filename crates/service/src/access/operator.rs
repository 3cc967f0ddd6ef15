//! The operator's way in: a Unix socket that only the service's own user and root can open.
//!
//! A loopback port is open to every local user; the file system is not. So `/manage` needs no key over this socket. The
//! socket lies in a folder of mode 0700 and is named after a digest of the service's data folder. A record beside it says
//! which TCP address the same service has, so that clients find the socket for a loopback address.

use nix::unistd::{Uid, User, geteuid};
use reqwest::Url;
use serde::{Deserialize, Serialize};
use std::ffi::OsStr;
use std::io::{self, Write};
use std::net::{IpAddr, SocketAddr};
use std::os::unix::fs::{FileTypeExt, MetadataExt, OpenOptionsExt};
use std::os::unix::net::{UnixListener, UnixStream};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use vastrelay_serving::process::{Folder, FolderError};

/// Most bytes of a record.
const MOST_RECORD: u64 = 16 << 10;
/// The name of our folder in a user's runtime folder.
const OURS: &str = "vastrelay";
/// The name of the runtime folder in a data folder.
const RUN: &str = "run";

/// Where runtime files of a user lie.
#[derive(Clone, Debug, Default)]
pub struct RuntimePlaces {
    /// The session's runtime folder (`XDG_RUNTIME_DIR`), where there is one.
    pub session: Option<PathBuf>,
    /// The platform's data folder for services, where clients look when there is no session folder.
    pub usual_data: Option<PathBuf>,
}

impl RuntimePlaces {
    /// Returns the places of this process; a session folder that others could use is left out.
    pub fn of_this_user(usual_data: Option<PathBuf>) -> RuntimePlaces {
        let session = std::env::var_os("XDG_RUNTIME_DIR").map(PathBuf::from);
        RuntimePlaces {
            session: session.filter(|path| path.is_absolute() && Folder::existing(path).is_ok()),
            usual_data,
        }
    }

    /// Returns the folder of a service's socket.
    fn of_service(&self, data: &Path) -> PathBuf {
        match &self.session {
            Some(session) => session.join(OURS),
            None => data.join(RUN),
        }
    }

    /// Returns the folder in which clients look for records.
    fn of_clients(&self) -> Option<PathBuf> {
        let usual = self.usual_data.as_ref().map(|data| data.join(RUN));
        self.session.as_ref().map(|session| session.join(OURS)).or(usual)
    }
}

/// Which service a socket belongs to.
#[derive(Serialize, Deserialize)]
struct SocketRecord {
    /// The TCP address of the service.
    address: SocketAddr,
    /// The service's process.
    process: u32,
    /// The folder of the socket.
    folder: PathBuf,
}

/// Why the operator's socket cannot be opened.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum OperatorSocketError {
    /// The folder cannot be used.
    #[error("the runtime folder cannot be used: {0}")]
    Folder(#[from] FolderError),
    /// The system refuses.
    #[error("the management socket in {folder} cannot be opened: {source}")]
    Io {
        /// The runtime folder.
        folder: PathBuf,
        /// Why.
        source: io::Error,
    },
}

/// The socket of a running service. Dropping it removes socket and records.
pub struct OperatorSocket {
    name: String,
    folder: Folder,
    records: Vec<PathBuf>,
}

impl OperatorSocket {
    /// Opens the socket of the service with this data folder and writes its records. The caller holds the lock of the data
    /// folder, so a socket of the same name is left from a service that was killed.
    ///
    /// # Errors
    /// When the runtime folder belongs to others or could be used by them, or the system refuses.
    pub fn open(
        data: &Path,
        address: SocketAddr,
        places: &RuntimePlaces,
    ) -> Result<(OperatorSocket, UnixListener), OperatorSocketError> {
        let path = places.of_service(data);
        let failed = |source| OperatorSocketError::Io {
            folder: path.clone(),
            source,
        };
        let (name, folder) = (socket_name(data).map_err(failed)?, Folder::open(&path)?);
        let listener = folder.listen(&name).map_err(failed)?;
        let record = SocketRecord {
            address,
            process: std::process::id(),
            folder: path.canonicalize().map_err(failed)?,
        };
        let mut records = vec![write_record(&path, &name, &record).map_err(failed)?];
        // Clients without a session folder do not know this data folder, unless it is the usual one.
        if let Some(other) = places.of_clients().filter(|other| *other != path) {
            match write_beside(&other, &name, &record) {
                Ok(record) => records.push(record),
                Err(error) => tracing::warn!(%error, "commands do not find the management socket; give them --key"),
            }
        }
        let socket = OperatorSocket { name, folder, records };
        Ok((socket, listener))
    }
}

impl Drop for OperatorSocket {
    fn drop(&mut self) {
        self.folder.remove(&self.name);
        for record in &self.records {
            let _ = std::fs::remove_file(record);
        }
    }
}

/// A service's socket, found by a client of the same user.
pub struct FoundSocket {
    name: String,
    folder: Folder,
}

impl FoundSocket {
    /// Returns the socket of the service at a loopback address; `None` when the address is another one, or no service of
    /// this user answers there.
    pub fn find(url: &str, places: &RuntimePlaces) -> Option<FoundSocket> {
        let url = Url::parse(url).ok()?;
        let port = url.port_or_known_default()?;
        let ip = loopback(url.host_str()?)?;
        let folder = Folder::existing(&places.of_clients()?).ok()?;
        let entries = std::fs::read_dir(folder.path())
            .ok()?
            .flatten()
            .map(|entry| entry.path());
        entries
            .filter(|path| path.extension() == Some(OsStr::new("json")))
            .find_map(|path| {
                let record: SocketRecord =
                    serde_json::from_slice(&vastrelay_files::read(&path, MOST_RECORD).ok()?).ok()?;
                let serves = record.address.port() == port
                    && (record.address.ip().is_unspecified() || ip.is_none_or(|ip| ip == record.address.ip()));
                let lives = Path::new("/proc").join(record.process.to_string()).exists();
                (serves && lives).then(|| FoundSocket::open(&record.folder, path.file_stem()?.to_str()?))?
            })
    }

    /// Opens a socket whose folder and file belong to this user alone, and behind which a service listens.
    fn open(folder: &Path, name: &str) -> Option<FoundSocket> {
        let folder = Folder::existing(folder).ok()?;
        let found = FoundSocket {
            name: name.to_owned(),
            folder,
        };
        let facts = found.path().symlink_metadata().ok()?;
        let is_ours = facts.file_type().is_socket() && facts.uid() == geteuid().as_raw();
        (is_ours && UnixStream::connect(found.path()).is_ok()).then_some(found)
    }

    /// Returns the path to connect to; valid while this value lives.
    pub fn path(&self) -> PathBuf {
        self.folder.socket(&self.name)
    }
}

/// The peer of a connection over the socket.
#[derive(Clone)]
pub(crate) struct Operator {
    /// The user's name.
    pub name: Arc<str>,
}

impl Operator {
    /// Returns the peer of a connection, when it is the service's own user or root.
    pub fn of(stream: &tokio::net::UnixStream) -> Option<Operator> {
        let peer = Uid::from_raw(stream.peer_cred().ok()?.uid());
        (peer == geteuid() || peer.is_root()).then(|| Operator::named(peer))
    }

    /// Returns the service's own user.
    pub fn own() -> Operator {
        Operator::named(geteuid())
    }

    fn named(user: Uid) -> Operator {
        let name = User::from_uid(user).ok().flatten().map(|user| user.name);
        Operator {
            name: name.unwrap_or_else(|| format!("user {user}")).into(),
        }
    }
}

/// Returns the address that a host's name stands for, when that is on loopback: `Some(None)` for any such address.
fn loopback(host: &str) -> Option<Option<IpAddr>> {
    match host.trim_matches(['[', ']']).parse::<IpAddr>() {
        Ok(ip) => ip.is_loopback().then_some(Some(ip)),
        Err(_) => host.eq_ignore_ascii_case("localhost").then_some(None),
    }
}

fn socket_name(data: &Path) -> io::Result<String> {
    let path = data.canonicalize()?;
    let digest = blake3::hash(path.as_os_str().as_encoded_bytes()).to_hex();
    Ok(digest[..16].to_owned())
}

/// Writes a record into a folder of clients, which is made if need be.
fn write_beside(folder: &Path, name: &str, record: &SocketRecord) -> io::Result<PathBuf> {
    if let Some(parent) = folder.parent() {
        std::fs::create_dir_all(parent)?;
    }
    Folder::open(folder).map_err(io::Error::other)?;
    write_record(folder, name, record)
}

fn write_record(folder: &Path, name: &str, record: &SocketRecord) -> io::Result<PathBuf> {
    let (path, part) = (folder.join(format!("{name}.json")), folder.join(format!("{name}.part")));
    let _ = std::fs::remove_file(&part);
    let options = std::fs::OpenOptions::new()
        .write(true)
        .create_new(true)
        .mode(0o600)
        .clone();
    options.open(&part)?.write_all(&serde_json::to_vec(record)?)?;
    std::fs::rename(&part, &path)?;
    Ok(path)
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::fs::Permissions;
    use std::os::unix::fs::PermissionsExt;

    fn places(session: Option<&Path>, usual: &Path) -> RuntimePlaces {
        RuntimePlaces {
            session: session.map(Path::to_owned),
            usual_data: Some(usual.to_owned()),
        }
    }

    fn found(url: &str, places: &RuntimePlaces) -> bool {
        FoundSocket::find(url, places).is_some()
    }

    #[test]
    fn a_client_finds_the_socket_by_the_services_loopback_address_and_only_while_it_is_open() {
        let (session, home, data) = (
            tempfile::tempdir().unwrap(),
            tempfile::tempdir().unwrap(),
            tempfile::tempdir().unwrap(),
        );
        for places in [places(Some(session.path()), home.path()), places(None, home.path())] {
            let open = OperatorSocket::open(data.path(), "127.0.0.1:7411".parse().unwrap(), &places).unwrap();
            for url in ["http://127.0.0.1:7411", "https://localhost:7411/v1"] {
                assert!(found(url, &places), "{url}");
            }
            for url in [
                "http://127.0.0.1:7412",
                "http://10.0.0.8:7411",
                "http://relay.example:7411",
                "http://[::1]:7411",
                "nonsense",
            ] {
                assert!(!found(url, &places), "{url}");
            }
            drop(open);
            assert!(!found("http://127.0.0.1:7411", &places));
        }
        assert!(std::fs::read_dir(session.path().join(OURS)).unwrap().next().is_none());
        assert!(std::fs::read_dir(home.path().join(RUN)).unwrap().next().is_none());
    }

    #[test]
    fn a_folder_that_others_could_use_is_neither_served_from_nor_believed() {
        let (home, data) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
        let places = places(None, home.path());
        let address = "127.0.0.1:7411".parse().unwrap();
        let _open = OperatorSocket::open(data.path(), address, &places).unwrap();
        let open_to_all = |path: &Path, mode| std::fs::set_permissions(path, Permissions::from_mode(mode)).unwrap();
        open_to_all(&data.path().join(RUN), 0o755);
        assert!(!found("http://127.0.0.1:7411", &places));
        assert!(OperatorSocket::open(data.path(), address, &places).is_err());
        open_to_all(&data.path().join(RUN), 0o700);
        assert!(found("http://127.0.0.1:7411", &places));
        open_to_all(&home.path().join(RUN), 0o777);
        assert!(!found("http://127.0.0.1:7411", &places));
    }
}
