//! How much gets through between two agents: bounded in time and bytes, as the service allows.

use crate::id::{AgentId, ThroughputId};
use crate::round::Clocks;
use crate::unit::{Micros, WallTime};
use serde::{Deserialize, Serialize};
use std::fmt;
use std::net::IpAddr;

/// Protocol of a measurement.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum By {
    /// One connection, as fast as it goes (RFC 6349).
    Tcp,
    /// Packets at a set rate, to see which arrive.
    Udp,
}

/// What an agent does in a run.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Side {
    /// It sends and reports.
    Sends,
    /// It receives and tells the sender.
    Receives,
}

/// Leave for one run, given by the service to each end.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct ThroughputOrder {
    /// Its name.
    pub id: ThroughputId,
    /// The holder of this copy.
    pub holder: AgentId,
    /// What the holder does.
    pub side: Side,
    /// Where the peer is.
    pub peer_address: IpAddr,
    /// The receiver's port.
    pub port: u16,
    /// What both prove that they know.
    pub key: [u8; 32],
    /// By which protocol.
    pub by: By,
    /// At most so long, in seconds.
    pub seconds: u8,
    /// Most bytes to send.
    pub most_bytes: u64,
    /// Rate of UDP, in bits a second.
    pub rate_bit_s: u64,
    /// Until when it may begin, by the service's clock.
    pub not_after: WallTime,
}

/// Bounds that no order may be beyond.
pub const MOST_SECONDS: u8 = 30;
/// Bytes of a run at most.
pub const MOST_BYTES: u64 = 1 << 30;
/// Bits a second of a run by UDP at most.
pub const MOST_RATE_BIT_S: u64 = 1_000_000_000;
/// The receiver's port.
pub const PORT: u16 = 59_863;

/// What a run came to.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum ThroughputWord {
    /// It was measured.
    Measured {
        /// Bytes sent.
        sent_bytes: u64,
        /// Bytes that arrived, by the receiver's word.
        received_bytes: u64,
        /// From the first to the last of them, by the receiver's clock.
        took_us: Micros,
        /// Packets sent by UDP.
        packets: u32,
        /// Of those, lost.
        lost: u32,
    },
    /// It was not, in words.
    Failed(String),
}

/// A run as its sender reports it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct ThroughputRound {
    /// The run.
    pub id: ThroughputId,
    /// When it began.
    pub clocks: Clocks,
    /// What came of it.
    pub word: ThroughputWord,
    /// Bytes that the sender's own interfaces carried meanwhile, in and out, the run's own
    /// included; absent where they could not be read.
    pub carried_bytes: Option<[u64; 2]>,
}

impl ThroughputWord {
    /// Bits a second that arrived; absent where too little did to say.
    pub fn rate_bit_s(&self) -> Option<u64> {
        match self {
            Self::Measured { received_bytes, took_us, .. } if took_us.as_micros() > 0 => {
                let bits = u128::from(*received_bytes) * 8_000_000;
                u64::try_from(bits / u128::from(took_us.as_micros())).ok()
            }
            _ => None,
        }
    }

    /// Why it cannot be believed; absent for what may.
    pub fn contradiction(&self) -> Option<&'static str> {
        match self {
            Self::Measured { sent_bytes, received_bytes, packets, lost, .. } => {
                (received_bytes > sent_bytes || lost > packets).then_some("more arrived than left")
            }
            Self::Failed(why) => (why.len() > 200).then_some("a reason of more than 200 bytes"),
        }
    }
}

impl ThroughputOrder {
    /// True within every bound.
    pub const fn is_bounded(&self) -> bool {
        self.seconds >= 1
            && self.seconds <= MOST_SECONDS
            && self.most_bytes <= MOST_BYTES
            && self.rate_bit_s <= MOST_RATE_BIT_S
    }
}

impl fmt::Display for By {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(match self {
            Self::Tcp => "tcp",
            Self::Udp => "udp",
        })
    }
}
