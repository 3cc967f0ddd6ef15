//! Bytes together with the system's note of when they arrived.

use crate::clock::moment;
use nix::sys::socket::sockopt::ReceiveTimestampns;
use nix::sys::socket::{ControlMessageOwned, MsgFlags, recvmsg, setsockopt};
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

/// Reads what there is; returns how much, and when the last of it arrived, if that was noted. `control` is room for the note.
pub(crate) fn receive(
    socket: &impl AsRawFd,
    space: &mut [u8],
    control: &mut [u8],
) -> io::Result<(usize, Option<Instant>)> {
    let mut parts = [IoSliceMut::new(space)];
    let message = recvmsg::<()>(socket.as_raw_fd(), &mut parts, Some(control), MsgFlags::empty())?;
    // A note that cannot be read is no reason to lose the bytes.
    let noted = message.cmsgs().ok().and_then(|mut notes| {
        notes.find_map(|note| match note {
            ControlMessageOwned::ScmTimestampns(at) => Some(moment(at)),
            _ => None,
        })
    });
    Ok((message.bytes, noted))
}
