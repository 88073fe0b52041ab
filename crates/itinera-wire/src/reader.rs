//! One cursor over octets, and the error every parser here gives.

use std::fmt;

/// The protocol layer that refused.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Layer {
    /// Either version of IP, before its version is known.
    Ip,
    /// RFC 791.
    Ipv4,
    /// RFC 8200.
    Ipv6,
    /// RFC 792, RFC 4443.
    Icmp,
    /// RFC 4884.
    Extension,
    /// RFC 768.
    Udp,
    /// RFC 9293.
    Tcp,
    /// RFC 8762.
    Stamp,
    /// IEEE 802.1AB.
    Lldp,
}

impl fmt::Display for Layer {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Ip => "IP",
            Self::Ipv4 => "IPv4",
            Self::Ipv6 => "IPv6",
            Self::Icmp => "ICMP",
            Self::Extension => "ICMP extension",
            Self::Udp => "UDP",
            Self::Tcp => "TCP",
            Self::Stamp => "STAMP",
            Self::Lldp => "LLDP",
        })
    }
}

/// Why octets are no packet.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum ParseError {
    /// Fewer octets than the header needs.
    #[error("{layer}: {needed} octets needed at offset {offset}, {actual} there")]
    Short {
        /// Which header.
        layer: Layer,
        /// Where it reads.
        offset: usize,
        /// How many it needs there.
        needed: usize,
        /// How many there are.
        actual: usize,
    },
    /// A field with a value the header cannot have.
    #[error("{layer}: impossible {field} {value}")]
    Field {
        /// Which header.
        layer: Layer,
        /// Which field.
        field: &'static str,
        /// Its value.
        value: u32,
    },
    /// The checksum does not match.
    #[error("{layer}: checksum does not match")]
    Checksum {
        /// Which header.
        layer: Layer,
    },
}

/// Reads octets front to back, never past the end.
#[derive(Debug, Clone)]
pub struct Reader<'a> {
    octets: &'a [u8],
    offset: usize,
    layer: Layer,
}

impl<'a> Reader<'a> {
    /// A reader at the first octet, speaking for `layer` in its errors.
    pub const fn new(layer: Layer, octets: &'a [u8]) -> Self {
        Self { octets, offset: 0, layer }
    }

    /// The next `N` octets.
    ///
    /// # Errors
    /// [`ParseError::Short`] when fewer are left.
    pub fn take<const N: usize>(&mut self) -> Result<[u8; N], ParseError> {
        match self.octets.split_first_chunk::<N>() {
            Some((head, rest)) => {
                self.octets = rest;
                self.offset = self.offset.saturating_add(N);
                Ok(*head)
            }
            None => Err(self.short(N)),
        }
    }

    /// The next octet.
    ///
    /// # Errors
    /// [`ParseError::Short`] at the end.
    pub fn u8(&mut self) -> Result<u8, ParseError> {
        self.take::<1>().map(|[octet]| octet)
    }

    /// The next two octets, big endian.
    ///
    /// # Errors
    /// [`ParseError::Short`] when fewer are left.
    pub fn u16(&mut self) -> Result<u16, ParseError> {
        self.take().map(u16::from_be_bytes)
    }

    /// The next four octets, big endian.
    ///
    /// # Errors
    /// [`ParseError::Short`] when fewer are left.
    pub fn u32(&mut self) -> Result<u32, ParseError> {
        self.take().map(u32::from_be_bytes)
    }

    /// The next `count` octets.
    ///
    /// # Errors
    /// [`ParseError::Short`] when fewer are left.
    pub fn take_slice(&mut self, count: usize) -> Result<&'a [u8], ParseError> {
        match self.octets.split_at_checked(count) {
            Some((head, rest)) => {
                self.octets = rest;
                self.offset = self.offset.saturating_add(count);
                Ok(head)
            }
            None => Err(self.short(count)),
        }
    }

    /// Passes over `count` octets.
    ///
    /// # Errors
    /// [`ParseError::Short`] when fewer are left.
    pub fn skip(&mut self, count: usize) -> Result<(), ParseError> {
        self.take_slice(count).map(drop)
    }

    /// True when everything has been read.
    pub const fn is_empty(&self) -> bool {
        self.octets.is_empty()
    }

    /// Everything not read yet.
    pub const fn rest(self) -> &'a [u8] {
        self.octets
    }

    const fn short(&self, needed: usize) -> ParseError {
        ParseError::Short {
            layer: self.layer,
            offset: self.offset,
            needed,
            actual: self.octets.len(),
        }
    }
}
