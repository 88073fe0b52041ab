//! What the agent finds around it: from the kernel, or from the simulated internet.

mod announced;
mod kernel;
mod leases;
#[cfg(test)]
mod tests;
mod turns;

pub use announced::Announcements;
use itinera_model::codec::{decode, encode};
use itinera_model::host_facts::{HostFacts, RouteEntry};
use std::io;
use std::net::{IpAddr, SocketAddr};
use std::time::Duration;
use tokio::net::UdpSocket;
pub(crate) use turns::Turns;

/// How long the simulation may take to tell.
const WAIT: Duration = Duration::from_secs(1);
/// How often a question that got lost is asked again.
const TRIES: usize = 5;

/// The source of host facts.
#[derive(Debug, Clone)]
pub enum HostFactsSource {
    /// The kernel, and files beside it.
    Kernel {
        /// Whether open sockets may be listed.
        sockets: bool,
        /// What switches announce, where that could be listened for.
        announced: Option<Announcements>,
    },
    /// A simulated internet behind a loopback socket, in which the machine has this address.
    Simulated(SocketAddr, IpAddr),
}

impl HostFactsSource {
    /// Reads the host facts.
    ///
    /// # Errors
    /// The kernel's word; `TimedOut` from a simulation that does not tell, `NotFound` from one that
    /// knows no such machine.
    pub async fn read(&self) -> io::Result<HostFacts> {
        match self {
            Self::Kernel { sockets, announced } => kernel::read(*sockets, announced.as_ref()).await,
            Self::Simulated(simulation, address) => {
                let socket = UdpSocket::bind("127.0.0.1:0").await?;
                socket.connect(simulation).await?;
                let mut buffer = vec![0; 65_535];
                for _ in 0..TRIES {
                    socket.send(&encode(address)).await?;
                    // A packet may still come for the former owner of this port.
                    let answer = async {
                        loop {
                            let length = socket.recv(&mut buffer).await?;
                            if let Ok(answer) = decode::<Option<HostFacts>>(&buffer[..length]) {
                                return answer.ok_or_else(|| io::ErrorKind::NotFound.into());
                            }
                        }
                    };
                    if let Ok(answer) = tokio::time::timeout(WAIT, answer).await {
                        return answer;
                    }
                }
                Err(io::ErrorKind::TimedOut.into())
            }
        }
    }

    /// How the machine sends to some addresses now, whatever rules decide it; nothing of those that
    /// it knows no route to, and nothing of a simulated machine, which has but one table.
    pub async fn routes_to(&self, addresses: &[IpAddr]) -> Vec<RouteEntry> {
        match self {
            Self::Kernel { .. } => kernel::routes_to(addresses).await.unwrap_or_default(),
            Self::Simulated(..) => Vec::new(),
        }
    }

    /// Waits until something may have changed; for ever where no change is reported.
    ///
    /// # Cancel safety
    /// Safe: a later read gives the state of its time.
    pub async fn changed(&self) {
        match self {
            Self::Kernel { .. } => kernel::changed().await,
            Self::Simulated(..) => std::future::pending().await,
        }
    }
}
