//! Packets between an agent and a simulated internet: datagrams on loopback, each with the time at
//! which its packet is on the link.
//!
//! Both ends run on one machine and read one clock. The sender states when the packet leaves, the
//! simulation states when it arrives, and each believes the other. So neither a delay nor the order
//! of packets depends on when the kernel gives either program a processor.
//!
//! Shape: octet 0 is [`FRAME`]; octets 1 to 8 are the time in nanoseconds since 1970, big-endian;
//! octets 9 to 12 are how late the sender of the datagram was, in microseconds; then one whole IP
//! packet. A datagram of the one octet [`CLOSED`] is the last of its socket.

use rustix::net::SendFlags;
use std::io;
use std::net::SocketAddr;
use std::ops::Deref;
use std::time::{SystemTime, UNIX_EPOCH};
use tokio::net::UdpSocket;

/// The first octet of a packet's datagram. No question to the simulation begins with it.
pub const FRAME: u8 = 0x80;
/// The only octet of the datagram that a socket sends when it closes.
pub const CLOSED: u8 = 0x81;
const HEADER: usize = 13;

/// One packet and its time on the link.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Frame<'a> {
    /// Nanoseconds since 1970 by the machine's clock.
    pub unix_nanos: i64,
    /// From that time to the time at which the datagram left, in microseconds.
    pub late_us: u32,
    /// The whole IP packet.
    pub packet: &'a [u8],
}

/// The machine's clock in nanoseconds since 1970; 0 before that.
pub fn unix_nanos_now() -> i64 {
    let since = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
    i64::try_from(since.as_nanos()).unwrap_or(i64::MAX)
}

/// A loopback socket connected to a simulation, which stops sending to it when it closes.
#[derive(Debug)]
pub struct SimulatedSocket(UdpSocket);

impl SimulatedSocket {
    /// Opens a socket on a port of the kernel's choice.
    ///
    /// # Errors
    /// The kernel's error.
    pub(crate) async fn connect(simulation: SocketAddr) -> io::Result<Self> {
        let socket = UdpSocket::bind("127.0.0.1:0").await?;
        socket.connect(simulation).await?;
        Ok(Self(socket))
    }
}

impl Deref for SimulatedSocket {
    type Target = UdpSocket;

    fn deref(&self) -> &UdpSocket {
        &self.0
    }
}

impl Drop for SimulatedSocket {
    fn drop(&mut self) {
        // Not through the runtime, which may not know yet that the socket can be written to. If the
        // datagram is lost, newer sockets displace this one in the simulation.
        let _lost = rustix::net::send(&self.0, &[CLOSED], SendFlags::DONTWAIT);
    }
}

impl<'a> Frame<'a> {
    /// Reads a datagram; nothing when it is none of these.
    pub fn parse(datagram: &'a [u8]) -> Option<Self> {
        let (header, packet) = datagram.split_first_chunk::<HEADER>()?;
        let [FRAME, header @ ..] = header else { return None };
        let (time, late) = header.split_first_chunk::<8>()?;
        let late: [u8; 4] = late.try_into().ok()?;
        Some(Self {
            unix_nanos: i64::from_be_bytes(*time),
            late_us: u32::from_be_bytes(late),
            packet,
        })
    }

    /// Writes the datagram.
    pub fn emit(&self) -> Vec<u8> {
        let mut datagram = Vec::with_capacity(HEADER + self.packet.len());
        datagram.push(FRAME);
        datagram.extend(self.unix_nanos.to_be_bytes());
        datagram.extend(self.late_us.to_be_bytes());
        datagram.extend(self.packet);
        datagram
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn a_socket_that_closes_says_so() {
        let simulation = UdpSocket::bind("127.0.0.1:0").await.unwrap();
        let socket = SimulatedSocket::connect(simulation.local_addr().unwrap()).await.unwrap();
        let address = socket.local_addr().unwrap();
        drop(socket);
        let mut buffer = [0; 16];
        let (length, from) = simulation.recv_from(&mut buffer).await.unwrap();
        assert_eq!((&buffer[..length], from), (&[CLOSED][..], address));
    }

    #[test]
    fn a_frame_survives_the_datagram_and_everything_else_is_none() {
        let frame = Frame { unix_nanos: -5, late_us: 70_000, packet: &[0x45, 1, 2] };
        let datagram = frame.emit();
        assert_eq!(Frame::parse(&datagram), Some(frame));
        for end in 0..HEADER {
            assert_eq!(Frame::parse(&datagram[..end]), None);
        }
        assert_eq!(Frame::parse(&[0x45; 40]), None);
    }
}
