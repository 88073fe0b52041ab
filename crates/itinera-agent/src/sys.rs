//! The only place with unsafe code: what the operating system's interfaces ask us to promise.
#![allow(unsafe_code, reason = "promises to the operating system are made here and only here")]

use nix::libc;
use socket2::Socket;
use std::io;
use std::os::fd::OwnedFd;
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

/// How far the machine's clock may be off UTC, in microseconds (adjtimex(2)); absent where nobody
/// keeps it.
pub(crate) fn clock_error_us() -> Option<u32> {
    // SAFETY: all-zero octets are a valid `timex`: it has integers only. Zero `modes` ask to set
    // nothing, so the call only writes to the structure, which is ours and of the layout that
    // libc gives for this target.
    let (state, read) = unsafe {
        let mut read: libc::timex = std::mem::zeroed();
        (libc::adjtimex(&raw mut read), read)
    };
    let kept = state >= 0 && state != libc::TIME_ERROR && read.status & libc::STA_UNSYNC == 0;
    kept.then(|| u32::try_from(read.maxerror).ok()).flatten()
}
