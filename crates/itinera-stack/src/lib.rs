//! A TCP/IP host in user space over whatever carries whole IP packets: what agents of the
//! simulated internet ask services by, and what those services answer by.
//!
//! The protocols themselves are smoltcp's; this crate gives them Tokio's streams. It opens no
//! socket: packets come in and go out by channels; the holder of the other ends carries them.
//! A [`Stack`] lives as long as one of its handles, streams or listeners.

mod carrier;
mod host;
mod state;
mod stream;
#[cfg(test)]
mod tests;

pub use host::{Datagrams, Listener, Ports, Stack};
pub use stream::Stream;
