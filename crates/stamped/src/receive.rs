//! Bytes together with the system's note of when they arrived.

use crate::clock::moment;
use nix::cmsg_space;
use nix::sys::socket::sockopt::ReceiveTimestampns;
use nix::sys::socket::{ControlMessageOwned, MsgFlags, recvmsg, setsockopt};
use nix::sys::time::TimeSpec;
use std::io::{self, IoSliceMut};
use std::os::fd::{AsFd, AsRawFd};
use std::time::Instant;

/// Asks the system to note when bytes arrive on a socket, and on those that are accepted from it.
///
/// # Errors
/// What the system says.
pub fn stamp_arrivals(socket: &impl AsFd) -> io::Result<()> {
    Ok(setsockopt(socket, ReceiveTimestampns, &true)?)
}

/// Reads from sockets that note arrivals.
#[derive(Debug)]
pub struct Receiver {
    /// Room for the system's note.
    control: Vec<u8>,
}

impl Default for Receiver {
    fn default() -> Receiver {
        Receiver {
            control: cmsg_space!(TimeSpec),
        }
    }
}

impl Receiver {
    /// Reads what there is; returns how many bytes, and when the last of them arrived, if that was noted.
    ///
    /// # Errors
    /// What the system says.
    pub fn receive(&mut self, socket: &impl AsRawFd, space: &mut [u8]) -> io::Result<(usize, Option<Instant>)> {
        let mut parts = [IoSliceMut::new(space)];
        let control = Some(self.control.as_mut_slice());
        let message = recvmsg::<()>(socket.as_raw_fd(), &mut parts, control, MsgFlags::empty())?;
        // A note that cannot be read is no reason to lose the bytes.
        let noted = message.cmsgs().ok().and_then(|mut notes| {
            notes.find_map(|note| match note {
                ControlMessageOwned::ScmTimestampns(at) => Some(moment(at)),
                _ => None,
            })
        });
        Ok((message.bytes, noted))
    }
}
