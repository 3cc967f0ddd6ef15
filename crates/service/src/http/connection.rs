//! A caller's connection: counted, closed when its reader takes nothing, and given whole errors also where the HTTP parser
//! answers by itself.

use crate::http::problem::Problem;
use actix_web::ResponseError;
use actix_web::http::StatusCode;
use nix::sys::resource::{Resource, getrlimit, setrlimit};
use std::future::Future;
use std::io;
use std::pin::Pin;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::task::{Context, Poll, ready};
use std::time::Duration;
use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};
use tokio::time::Sleep;

/// How long a reader may take nothing of what is waiting for it.
const MOST_UNREAD: Duration = Duration::from_secs(60);
/// Open files that are not connections: database, builds and logs; workers, each with sockets and a log; health checks.
const OTHER_FILES: u64 = 320;
/// Open files of a connection: the socket, a second handle that is watched for the caller's departure, and a third while a call
/// runs.
const FILES_OF_CONNECTION: u64 = 3;
/// Connections that only health checks may use.
const HEALTH_CONNECTIONS: usize = 64;
/// Most connections, however many files may be open.
const MOST_CONNECTIONS: usize = 8_192;

/// Lets the process open as many files as the system allows, and returns how many connections that leaves room for.
pub(crate) fn raise_file_limit() -> usize {
    let Ok((_, hard)) = getrlimit(Resource::RLIMIT_NOFILE) else {
        return MOST_CONNECTIONS;
    };
    if let Err(error) = setrlimit(Resource::RLIMIT_NOFILE, hard, hard) {
        tracing::warn!(%error, "the limit of open files stays as it is");
    }
    let soft = getrlimit(Resource::RLIMIT_NOFILE).map_or(1_024, |(soft, _)| soft);
    connections_for(soft)
}

/// Returns how many connections a limit of open files leaves room for, with what the rest of the service needs set aside.
fn connections_for(files: u64) -> usize {
    let most = files.saturating_sub(OTHER_FILES) / FILES_OF_CONNECTION;
    (most as usize).clamp(2 * HEALTH_CONNECTIONS, MOST_CONNECTIONS)
}

/// All open connections.
#[derive(Clone)]
pub(crate) struct Connections {
    open: Arc<AtomicUsize>,
    most: usize,
}

/// A connection's place among all. The last places are for health checks.
pub(crate) struct ConnectionSlot {
    connections: Connections,
    is_last: bool,
}

/// The state of connections when a request's own was accepted.
pub(crate) struct ConnectionCount {
    /// Whether only health checks are answered on it.
    pub is_full: bool,
}

impl Connections {
    pub fn new(most: usize) -> Connections {
        Connections {
            open: Arc::default(),
            most,
        }
    }

    /// Takes a place.
    ///
    /// # Errors
    /// When there is none.
    pub fn enter(&self) -> io::Result<ConnectionSlot> {
        let before = self.open.fetch_add(1, Ordering::AcqRel);
        let slot = ConnectionSlot {
            connections: self.clone(),
            is_last: before >= self.most - HEALTH_CONNECTIONS,
        };
        if before >= self.most {
            return Err(io::Error::other("too many connections"));
        }
        Ok(slot)
    }
}

impl Drop for ConnectionSlot {
    fn drop(&mut self) {
        self.connections.open.fetch_sub(1, Ordering::AcqRel);
    }
}

/// A connection that has a place and does not wait for ever.
pub(crate) struct WatchedConnection<T> {
    inner: T,
    slot: ConnectionSlot,
    /// Runs while the reader takes nothing.
    stuck: Option<Pin<Box<Sleep>>>,
    /// The text that is sent in place of a bare answer, and the bytes sent so far.
    dressed: Option<(Vec<u8>, usize)>,
}

impl<T> WatchedConnection<T> {
    pub fn new(inner: T, slot: ConnectionSlot) -> WatchedConnection<T> {
        WatchedConnection {
            inner,
            slot,
            stuck: None,
            dressed: None,
        }
    }

    /// Returns the connection itself.
    pub fn inner(&self) -> &T {
        &self.inner
    }

    /// Returns what its requests are to know of it.
    pub fn count(&self) -> ConnectionCount {
        ConnectionCount {
            is_full: self.slot.is_last,
        }
    }

    /// Passes on what a write brought; one that has not got on for long is an error.
    fn timed<R>(&mut self, context: &mut Context<'_>, wrote: Poll<io::Result<R>>) -> Poll<io::Result<R>> {
        if wrote.is_ready() {
            self.stuck = None;
            return wrote;
        }
        let stuck = self
            .stuck
            .get_or_insert_with(|| Box::pin(tokio::time::sleep(MOST_UNREAD)));
        ready!(stuck.as_mut().poll(context));
        Poll::Ready(Err(io::Error::new(
            io::ErrorKind::TimedOut,
            "the reader has taken nothing for a minute",
        )))
    }
}

impl<T: AsyncRead + Unpin> AsyncRead for WatchedConnection<T> {
    fn poll_read(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
        buffer: &mut ReadBuf<'_>,
    ) -> Poll<io::Result<()>> {
        Pin::new(&mut self.inner).poll_read(context, buffer)
    }
}

impl<T: AsyncWrite + Unpin> AsyncWrite for WatchedConnection<T> {
    fn poll_write(mut self: Pin<&mut Self>, context: &mut Context<'_>, bytes: &[u8]) -> Poll<io::Result<usize>> {
        let this = &mut *self;
        let (bare, before) = match bare_answer(bytes) {
            Some((at, status)) => (Some(status), at),
            None => (None, bytes.len()),
        };
        let Some(status) = bare.filter(|_| before == 0) else {
            let wrote = Pin::new(&mut this.inner).poll_write(context, &bytes[..before]);
            return this.timed(context, wrote);
        };
        let (dressed, mut sent) = this.dressed.take().unwrap_or_else(|| (dress(status), 0));
        while sent < dressed.len() {
            let wrote = Pin::new(&mut this.inner).poll_write(context, &dressed[sent..]);
            match this.timed(context, wrote) {
                Poll::Ready(Ok(0)) => return Poll::Ready(Err(io::ErrorKind::WriteZero.into())),
                Poll::Ready(Ok(count)) => sent += count,
                Poll::Ready(Err(error)) => return Poll::Ready(Err(error)),
                Poll::Pending => {
                    this.dressed = Some((dressed, sent));
                    return Poll::Pending;
                }
            }
        }
        Poll::Ready(Ok(bytes.len()))
    }

    fn poll_flush(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        let flushed = Pin::new(&mut self.inner).poll_flush(context);
        self.timed(context, flushed)
    }

    fn poll_shutdown(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        let shut = Pin::new(&mut self.inner).poll_shutdown(context);
        self.timed(context, shut)
    }
}

/// Finds an answer without a body that the HTTP parser gives by itself, at the end of what is sent; all our own have one.
fn bare_answer(bytes: &[u8]) -> Option<(usize, StatusCode)> {
    const LONGEST: usize = 512;
    if !bytes.ends_with(b"\r\n\r\n") {
        return None;
    }
    let start = bytes.len().saturating_sub(LONGEST);
    let end = bytes[start..].windows(7).rposition(|part| part == b"HTTP/1.")? + start;
    let head = std::str::from_utf8(&bytes[end..]).ok()?;
    let status = [
        StatusCode::BAD_REQUEST,
        StatusCode::REQUEST_TIMEOUT,
        StatusCode::REQUEST_HEADER_FIELDS_TOO_LARGE,
    ]
    .into_iter()
    .find(|status| head.get(9..12) == Some(status.as_str()))?;
    let is_bare = head.to_ascii_lowercase().contains("\r\ncontent-length: 0\r\n");
    is_bare.then_some((end, status))
}

/// Returns a whole answer in place of a bare one.
fn dress(status: StatusCode) -> Vec<u8> {
    let problem = Problem::unreadable(status);
    let body = serde_json::to_string(&problem.envelope()).expect("wire types are JSON");
    format!(
        "HTTP/1.1 {} {}\r\ncontent-type: application/json\r\nx-content-type-options: nosniff\r\ncontent-length: {}\r\nconnection: close\r\n\r\n{body}",
        problem.status_code().as_str(),
        status.canonical_reason().unwrap_or_default(),
        body.len()
    )
    .into_bytes()
}

#[cfg(test)]
mod tests {
    use super::*;
    use tokio::io::{AsyncReadExt, AsyncWriteExt, duplex};

    const BARE: &str = "HTTP/1.1 400 Bad Request\r\ncontent-length: 0\r\nconnection: close\r\n\r\n";

    fn patient<T>(inner: T) -> WatchedConnection<T> {
        WatchedConnection::new(inner, Connections::new(100).enter().unwrap())
    }

    #[tokio::test]
    async fn bare_answers_of_the_parser_carry_the_envelope_also_after_others() {
        let (near, mut far) = duplex(64);
        let sending = tokio::spawn(async move {
            let text = format!("HTTP/1.1 200 OK\r\ncontent-length: 2\r\n\r\nok{BARE}");
            let mut patient = patient(near);
            patient.write_all(text.as_bytes()).await.unwrap();
        });
        let mut text = String::new();
        far.read_to_string(&mut text).await.unwrap();
        sending.await.unwrap();
        assert!(text.starts_with("HTTP/1.1 200 OK"), "{text}");
        let (head, body) = text.rsplit_once("\r\n\r\n").unwrap();
        assert!(head.contains("HTTP/1.1 400 Bad Request"));
        assert!(body.contains("\"error\":{\"message\""), "{body}");
        assert!(head.contains(&format!("content-length: {}\r\n", body.len())));
    }

    #[test]
    fn other_answers_are_left_alone() {
        assert_eq!(bare_answer(BARE.as_bytes()), Some((0, StatusCode::BAD_REQUEST)));
        for text in [
            "HTTP/1.1 404 Not Found\r\ncontent-length: 0\r\n\r\n",
            "HTTP/1.1 400 Bad Request\r\ncontent-length: 2\r\n\r\n{}",
            "data: HTTP/1.1 400 is a bad request\n\n",
            "",
        ] {
            assert_eq!(bare_answer(text.as_bytes()), None, "{text}");
        }
    }

    #[tokio::test(start_paused = true)]
    async fn a_reader_that_takes_nothing_for_a_minute_loses_its_connection() {
        let (near, mut far) = duplex(8);
        let mut near = patient(near);
        near.write_all(b"12345678").await.unwrap();
        let writing = tokio::spawn(async move { near.write_all(b"9").await });
        tokio::time::sleep(Duration::from_secs(59)).await;
        assert!(!writing.is_finished());
        let error = writing.await.unwrap().unwrap_err();
        assert_eq!(error.kind(), io::ErrorKind::TimedOut);
        let mut read = String::new();
        far.read_to_string(&mut read).await.unwrap();
        assert_eq!(read, "12345678");
    }

    #[test]
    fn connections_leave_files_for_workers_database_and_health_checks() {
        for files in [1_024, 4_096, 20_000] {
            let most = connections_for(files) as u64;
            assert!(most * FILES_OF_CONNECTION + OTHER_FILES <= files, "{files}: {most}");
        }
        assert_eq!(connections_for(1_024), 234);
        assert_eq!(connections_for(1 << 20), MOST_CONNECTIONS);
    }

    #[test]
    fn the_last_places_are_for_health_checks() {
        let connections = Connections::new(HEALTH_CONNECTIONS + 2);
        let mut slots: Vec<ConnectionSlot> = (0..2).map(|_| connections.enter().unwrap()).collect();
        assert!(slots.iter().all(|slot| !slot.is_last));
        slots.extend((0..HEALTH_CONNECTIONS).map(|_| connections.enter().unwrap()));
        assert!(slots[2..].iter().all(|slot| slot.is_last));
        assert!(connections.enter().is_err());
        slots.truncate(1);
        assert!(!connections.enter().unwrap().is_last);
    }
}
