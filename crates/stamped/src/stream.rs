//! A connection.

use crate::receive::{Receiver, stamp_arrivals};
use crate::stamps::Stamps;
use hyper_util::client::legacy::connect::{Connected, Connection};
use std::io::{self, IoSlice};
use std::pin::Pin;
use std::task::{Context, Poll, ready};
use std::time::Instant;
use tokio::io::{AsyncRead, AsyncWrite, Interest, ReadBuf};
use tokio::net::TcpStream;

/// Most bytes that are read at once.
const MOST_AT_ONCE: usize = 64 << 10;

/// A TCP connection that knows when its bytes arrived and left.
#[derive(Debug)]
pub struct Stamped {
    stream: TcpStream,
    stamps: Stamps,
    receiver: Receiver,
}

impl Stamped {
    /// Returns a connection that notes its stamps from now on.
    ///
    /// # Errors
    /// What the system says when it is asked to note arrivals.
    pub fn new(stream: TcpStream) -> io::Result<Stamped> {
        stamp_arrivals(&stream)?;
        Ok(Stamped {
            stream,
            stamps: Stamps::new(),
            receiver: Receiver::default(),
        })
    }

    /// Returns its stamps.
    pub fn stamps(&self) -> &Stamps {
        &self.stamps
    }

    /// Returns what lies below.
    pub fn stream(&self) -> &TcpStream {
        &self.stream
    }
}

impl AsyncRead for Stamped {
    fn poll_read(self: Pin<&mut Self>, context: &mut Context<'_>, buffer: &mut ReadBuf<'_>) -> Poll<io::Result<()>> {
        let Stamped {
            stream,
            stamps,
            receiver,
        } = self.get_mut();
        loop {
            ready!(stream.poll_read_ready(context))?;
            let space = buffer.initialize_unfilled_to(buffer.remaining().min(MOST_AT_ONCE));
            let mut received = None;
            let asked = stream.try_io(Interest::READABLE, || {
                let (count, at) = receiver.receive(stream, space)?;
                received = Some((count, at));
                // Where less came than there was room for, there is no more: the next look waits for the system's word.
                match count {
                    0 => Ok(()),
                    count if count < space.len() => Err(io::ErrorKind::WouldBlock.into()),
                    _ => Ok(()),
                }
            });
            match (received, asked) {
                (Some((count, at)), _) => {
                    if count > 0 {
                        stamps.note_received(at.unwrap_or_else(Instant::now));
                    }
                    buffer.advance(count);
                    return Poll::Ready(Ok(()));
                }
                (None, Err(error)) if error.kind() != io::ErrorKind::WouldBlock => return Poll::Ready(Err(error)),
                (None, _) => {}
            }
        }
    }
}

impl AsyncWrite for Stamped {
    fn poll_write(mut self: Pin<&mut Self>, context: &mut Context<'_>, bytes: &[u8]) -> Poll<io::Result<usize>> {
        self.stamps.note_sent(Instant::now());
        Pin::new(&mut self.stream).poll_write(context, bytes)
    }

    fn poll_write_vectored(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
        parts: &[IoSlice<'_>],
    ) -> Poll<io::Result<usize>> {
        self.stamps.note_sent(Instant::now());
        Pin::new(&mut self.stream).poll_write_vectored(context, parts)
    }

    fn is_write_vectored(&self) -> bool {
        self.stream.is_write_vectored()
    }

    fn poll_flush(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.stream).poll_flush(context)
    }

    fn poll_shutdown(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.stream).poll_shutdown(context)
    }
}

/// Answers that come over it carry its [`Stamps`].
impl Connection for Stamped {
    fn connected(&self) -> Connected {
        Connected::new().extra(self.stamps.clone())
    }
}
