//! The largest packet that a path carries whole (RFC 1191, RFC 8201, RFC 8899).

use serde::{Deserialize, Serialize};
use std::net::IpAddr;

/// Why larger packets do not pass.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum MtuLimit {
    /// Nothing larger was tried.
    NotReached,
    /// The sender's own interface.
    OwnInterface,
    /// A router reports it.
    Reported {
        /// The router.
        #[serde(with = "crate::finding::text")]
        #[cfg_attr(feature = "openapi", schema(value_type = String))]
        by: IpAddr,
        /// The MTU it stated, in bytes; 0 where it stated none.
        stated_bytes: u32,
    },
    /// Larger ones are lost and no router reports it: a black hole (RFC 2923).
    Silent {
        /// Hop limit of the last hop that larger ones still reach; 0 for none.
        after_hop: u8,
        /// Its address, as text.
        after: Option<String>,
    },
}

/// What the search found.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct PathMtu {
    /// The largest packet that arrived, in bytes with its IP header; absent when the target
    /// answered to none.
    pub mtu_bytes: Option<u16>,
    /// What limits it.
    pub limit: MtuLimit,
    /// Probes sent.
    pub probes: u32,
}
