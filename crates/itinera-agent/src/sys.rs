//! The only place with unsafe code: what the operating system's interfaces ask us to promise.
#![allow(unsafe_code, reason = "promises to the operating system are made here and only here")]

use nix::libc;
use socket2::Socket;
use std::io;
use std::os::fd::{AsRawFd, OwnedFd};
use tokio::io::unix::AsyncFd;

/// Hands a socket to the runtime, which tells when it can be read.
///
/// # Errors
/// Whatever the kernel says about watching it.
pub(crate) fn watched(socket: Socket) -> io::Result<AsyncFd<Socket>> {
    // SAFETY: `Socket` owns its descriptor, gives the same one on every call, and closes it only
    // when dropped. It is moved into the `AsyncFd`, which drops it last and lends it out only by
    // shared reference, through which it can be neither closed nor replaced.
    let watched = unsafe { AsyncFd::register(socket) };
    Ok(watched?)
}

/// The same for any other descriptor that is owned.
///
/// # Errors
/// Whatever the kernel says about watching it.
pub(crate) fn watched_fd(owned: OwnedFd) -> io::Result<AsyncFd<OwnedFd>> {
    // SAFETY: `OwnedFd` owns its descriptor as `Socket` above does: it gives the same one on every
    // call, closes it only when dropped, and is moved into the `AsyncFd`.
    let watched = unsafe { AsyncFd::register(owned) };
    Ok(watched?)
}

/// Has an interface take frames that are sent to a group, for as long as the socket is open
/// (packet(7)).
///
/// # Errors
/// Whatever the kernel says: the interface may be gone.
#[allow(clippy::cast_possible_truncation, reason = "small constants of the kernel's")]
pub(crate) fn hear_group(socket: &Socket, interface: u32, group: [u8; 6]) -> io::Result<()> {
    let [a, b, c, d, e, f] = group;
    let asked = libc::packet_mreq {
        mr_ifindex: libc::c_int::try_from(interface).map_err(io::Error::other)?,
        mr_type: libc::PACKET_MR_MULTICAST as libc::c_ushort,
        mr_alen: 6,
        mr_address: [a, b, c, d, e, f, 0, 0],
    };
    // SAFETY: the kernel only reads the structure, which is of the layout that libc gives and of
    // the length given, and outlives the call; the descriptor is the socket's own.
    let said = unsafe {
        libc::setsockopt(
            socket.as_raw_fd(),
            libc::SOL_PACKET,
            libc::PACKET_ADD_MEMBERSHIP,
            (&raw const asked).cast(),
            size_of::<libc::packet_mreq>() as libc::socklen_t,
        )
    };
    if said == 0 { Ok(()) } else { Err(io::Error::last_os_error()) }
}

/// How far the machine's clock may be off UTC, in microseconds (adjtimex(2)); absent where no program
/// keeps it.
pub(crate) fn clock_error_us() -> Option<u32> {
    // SAFETY: all-zero bytes are a valid `timex`: it has integers only. Zero `modes` ask to set
    // nothing, so the call only writes to the structure, which is ours and of the layout that
    // libc gives for this target.
    let (state, read) = unsafe {
        let mut read: libc::timex = std::mem::zeroed();
        (libc::adjtimex(&raw mut read), read)
    };
    let kept = state >= 0 && state != libc::TIME_ERROR && read.status & libc::STA_UNSYNC == 0;
    kept.then(|| u32::try_from(read.maxerror).ok()).flatten()
}
