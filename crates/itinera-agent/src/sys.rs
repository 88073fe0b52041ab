//! The only place with unsafe code: what the operating system's interfaces ask us to promise.
#![allow(unsafe_code, reason = "promises to the operating system are made here and only here")]

use socket2::Socket;
use std::io;
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
