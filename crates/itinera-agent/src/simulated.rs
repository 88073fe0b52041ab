//! A host in user space on the simulated internet, beside the prober's own socket.

use crate::link::simulated::{Frame, SimulatedSocket, unix_nanos_now};
use itinera_model::codec::encode;
use itinera_stack::{Ports, Stack};
use itinera_wire::{IpHeader, TcpHeader, UdpHeader, ip};
use std::io;
use std::net::{IpAddr, SocketAddr};
use tokio::sync::mpsc;
use uuid::Uuid;

/// Packets waiting on either side.
const BACKLOG: usize = 4_096;

/// A host with these addresses; it ends with its last handle.
///
/// # Errors
/// The kernel's word about a loopback socket.
pub(crate) async fn stack(simulation: SocketAddr, addresses: Vec<IpAddr>) -> io::Result<Stack> {
    let socket = SimulatedSocket::connect(simulation).await?;
    let (in_door, came) = mpsc::channel(BACKLOG);
    let (leaving, mut sent) = mpsc::channel::<Vec<u8>>(BACKLOG);
    // It may only be going to listen.
    for address in &addresses {
        socket.send(&encode(&(address, true))).await?;
    }
    let (chance, _) = Uuid::new_v4().as_u64_pair();
    let stack = Stack::new(addresses, came, leaving, chance);
    // The host must be able to end with its last handle: what carries its packets holds none.
    let ports = stack.ports();
    tokio::spawn(async move {
        let mut buffer = vec![0; 65_535];
        loop {
            tokio::select! {
                packet = sent.recv() => {
                    let Some(packet) = packet else { return };
                    let frame = Frame { unix_nanos: unix_nanos_now(), late_us: 0, packet: &packet };
                    // Lost, as in any network.
                    let _lost = socket.send(&frame.emit()).await;
                }
                length = socket.recv(&mut buffer) => {
                    let frame = length.ok().and_then(|length| Frame::parse(&buffer[..length]));
                    let packet = frame.map_or(&[][..], |frame| frame.packet);
                    // What is for the prober, or for another program, is heard by its own socket.
                    if is_for(&ports, packet) {
                        let _full = in_door.try_send(packet.to_vec());
                    }
                }
            }
        }
    });
    Ok(stack)
}

fn is_for(ports: &Ports, packet: &[u8]) -> bool {
    let Ok((header, payload)) = IpHeader::parse(packet) else { return false };
    let port = match header.protocol() {
        ip::TCP => TcpHeader::parse(payload).ok().map(|(tcp, _)| tcp.destination_port),
        ip::UDP => UdpHeader::parse(payload).ok().map(|(udp, _)| udp.destination_port),
        _ => None,
    };
    port.is_some_and(|port| ports.has(header.protocol() == ip::TCP, port))
}
