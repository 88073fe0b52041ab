//! Identifiers. Outside they are UUIDs (version 7, RFC 9562, issued by the service) or digests
//! of content; small integers exist only inside the store.

use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};
use std::fmt;
use std::str::FromStr;
use uuid::Uuid;

macro_rules! uuid_id {
    ($($(#[$doc:meta])* $name:ident),+ $(,)?) => {$(
        $(#[$doc])*
        #[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
        #[serde(transparent)]
        pub struct $name(Uuid);

        impl $name {
            /// Wraps an existing UUID.
            pub const fn from_uuid(id: Uuid) -> Self { Self(id) }
            /// The UUID itself.
            pub const fn as_uuid(self) -> Uuid { self.0 }
        }
        impl fmt::Display for $name {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result { self.0.fmt(f) }
        }
        impl FromStr for $name {
            type Err = uuid::Error;
            fn from_str(text: &str) -> Result<Self, Self::Err> { text.parse().map(Self) }
        }
    )+};
}

uuid_id! {
    /// A place with an agent.
    SiteId,
    /// A measuring program at a site.
    AgentId,
    /// What is probed.
    TargetId,
    /// One agent to one target by one method in one direction.
    PathId,
    /// What an agent asks of a service again and again.
    CheckId,
    /// One diagnosis from an agent, started by a user.
    DiagnosisId,
    /// An event.
    EventId,
    /// One measurement of how much gets through.
    ThroughputId,
    /// Two agents that measure each other.
    PairId,
    /// An alarm.
    AlarmId,
    /// Alarms of one cause, or a complaint, reviewed together.
    IncidentId,
    /// A notice.
    NoticeId,
    /// A receiver of notices.
    ReceiverId,
    /// A user.
    UserId,
    /// A token of a program.
    TokenId,
    /// One run of an agent; a new one at every start.
    BootId,
}

/// Identity by content: the first 16 bytes of a SHA-256 over a canonical encoding.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(transparent)]
pub struct ContentId([u8; 16]);

impl ContentId {
    /// The identity of these canonical bytes.
    pub fn of(canonical: &[u8]) -> Self {
        let digest = Sha256::digest(canonical);
        let mut id = [0; 16];
        id.copy_from_slice(&digest[..16]);
        Self(id)
    }

    /// An identity read back from storage; absent unless exactly 16 bytes long.
    pub fn from_slice(octets: &[u8]) -> Option<Self> {
        octets.try_into().ok().map(Self)
    }

    /// The 16 bytes.
    pub const fn as_bytes(&self) -> &[u8; 16] {
        &self.0
    }
}

impl fmt::Display for ContentId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.0.iter().try_for_each(|octet| write!(f, "{octet:02x}"))
    }
}

impl fmt::Debug for ContentId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "ContentId({self})")
    }
}
