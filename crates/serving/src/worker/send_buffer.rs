//! A way out that never makes its user wait.

use super::message::encode;
use nix::errno::Errno;
use nix::sys::socket::{MsgFlags, send};
use serde::Serialize;
use std::io::{self, Write};
use std::net::Shutdown;
use std::os::fd::AsRawFd;
use std::os::unix::net::UnixStream;
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError};

/// Bytes that may wait; who takes less than is sent for so long is gone.
const MOST_UNSENT: usize = 256 << 20;

/// The bytes from one side to the other. A thread sends those that the socket does not take at once.
pub(super) struct SendBuffer {
    socket: UnixStream,
    state: Mutex<Unsent>,
    more: Condvar,
}

#[derive(Default)]
struct Unsent {
    bytes: Vec<u8>,
    /// The thread is sending what it has taken of them.
    is_sending: bool,
    is_over: bool,
}

impl SendBuffer {
    /// Returns the way out of a socket. `cleared` is called by a thread when all that had to wait has been sent.
    ///
    /// # Errors
    /// When the system refuses a thread or a handle.
    pub fn start(socket: &UnixStream, cleared: impl Fn() + Send + 'static) -> io::Result<Arc<SendBuffer>> {
        let send_buffer = Arc::new(SendBuffer {
            socket: socket.try_clone()?,
            state: Mutex::default(),
            more: Condvar::new(),
        });
        let sending = send_buffer.clone();
        let thread = std::thread::Builder::new().name("send-buffer".into());
        thread.spawn(move || {
            while sending.send_waiting() {
                cleared();
            }
        })?;
        Ok(send_buffer)
    }

    /// Sends a message, or keeps it until it can be sent. Returns whether the other side is connected.
    pub fn say(&self, message: &impl Serialize) -> bool {
        let mut bytes = Vec::new();
        encode(message, &mut bytes);
        self.send(&bytes)
    }

    /// Sends bytes, or keeps them until they can be sent. Returns whether anybody is there.
    pub fn send(&self, bytes: &[u8]) -> bool {
        let mut state = self.lock();
        if state.is_over {
            return false;
        }
        let is_clear = state.bytes.is_empty() && !state.is_sending;
        let sent = if is_clear { self.send_now(bytes) } else { Ok(0) };
        match sent {
            Ok(sent) if sent == bytes.len() => {}
            Ok(sent) if state.bytes.len() + bytes.len() - sent <= MOST_UNSENT => {
                state.bytes.extend_from_slice(&bytes[sent..]);
                self.more.notify_all();
            }
            _ => self.end(&mut state),
        }
        !state.is_over
    }

    /// Returns whether nothing waits.
    pub fn is_clear(&self) -> bool {
        let state = self.lock();
        state.bytes.is_empty() && !state.is_sending
    }

    /// Closes both ways, so that the other side and this side's reader find out.
    pub fn close(&self) {
        self.end(&mut self.lock());
    }

    /// Waits until all has been sent, or nobody is there.
    pub fn drain(&self) {
        let waits = |state: &mut Unsent| !state.is_over && (state.is_sending || !state.bytes.is_empty());
        let state = self.more.wait_while(self.lock(), waits);
        drop(state.unwrap_or_else(PoisonError::into_inner));
    }

    fn end(&self, state: &mut Unsent) {
        state.is_over = true;
        state.bytes = Vec::new();
        let _ = self.socket.shutdown(Shutdown::Both);
        self.more.notify_all();
    }

    /// Sends what the socket takes now; returns how much.
    fn send_now(&self, bytes: &[u8]) -> Result<usize, Errno> {
        let mut sent = 0;
        while sent < bytes.len() {
            let flags = MsgFlags::MSG_DONTWAIT | MsgFlags::MSG_NOSIGNAL;
            match send(self.socket.as_raw_fd(), &bytes[sent..], flags) {
                Ok(more) => sent += more,
                Err(Errno::EAGAIN) => break,
                Err(Errno::EINTR) => {}
                Err(error) => return Err(error),
            }
        }
        Ok(sent)
    }

    /// Waits for something that had to wait and sends it; returns whether it goes on.
    fn send_waiting(&self) -> bool {
        let nothing = |state: &mut Unsent| !state.is_over && state.bytes.is_empty();
        let state = self.more.wait_while(self.lock(), nothing);
        let mut state = state.unwrap_or_else(PoisonError::into_inner);
        if state.is_over {
            return false;
        }
        let bytes = std::mem::take(&mut state.bytes);
        state.is_sending = true;
        drop(state);
        // The system has no signal for a closed socket where Rust's start-up code runs.
        let sent = (&self.socket).write_all(&bytes);
        let mut state = self.lock();
        state.is_sending = false;
        if sent.is_err() {
            self.end(&mut state);
        }
        self.more.notify_all();
        !state.is_over
    }

    /// What is under this lock is whole at every moment, so it is of use even where another thread has panicked.
    fn lock(&self) -> MutexGuard<'_, Unsent> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }
}
