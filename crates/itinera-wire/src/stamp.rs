//! STAMP, the Simple Two-way Active Measurement Protocol (RFC 8762), in its authenticated mode,
//! with the class of service and the padding of RFC 8972.
//!
//! Limits: the open mode is neither sent nor read; optional parts other than those named are
//! passed over.

use crate::reader::{Layer, ParseError, Reader};
use hmac::{Hmac, KeyInit, Mac};
use sha2::Sha256;

/// Octets of a session's key.
pub const KEY_LEN: usize = 32;
/// Octets of an authenticated packet before its optional parts (RFC 8762 section 4.2.2).
pub const BASE_LEN: usize = 112;
/// The least octets of a packet with everything we send.
pub const LEAST_LEN: usize = BASE_LEN + CLASS_LEN + CODE_PART_LEN;
/// Octets of the base packet that its code covers (RFC 8762 section 4.4).
const COVERED: usize = 96;
const CODE_LEN: usize = 16;
const PART_HEADER: usize = 4;
const CLASS_LEN: usize = PART_HEADER + 4;
const CODE_PART_LEN: usize = PART_HEADER + CODE_LEN;
/// Types of optional parts (RFC 8972 section 5.1).
const PADDING: u8 = 1;
const CLASS: u8 = 4;
const CODE: u8 = 8;
/// Flags of a part as its sender sets them, "not understood, malformed, not whole", for the
/// reflector to take back (RFC 8972 section 4).
const UNTOUCHED: u8 = 0b1110_0000;
/// Seconds from the origin of NTP's time, 1900, to that of Unix's, 1970 (RFC 5905).
const SECONDS_TO_1970: i64 = 2_208_988_800;
const NANOS: i64 = 1_000_000_000;

/// A 64-bit NTP timestamp (RFC 5905 section 6).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Timestamp(u64);

impl Timestamp {
    /// The stamp of an instant in nanoseconds since 1970, wrapped every 136 years.
    pub const fn from_unix_nanos(nanos: i64) -> Self {
        let seconds = nanos.div_euclid(NANOS).wrapping_add(SECONDS_TO_1970);
        // Rounded up, so that reading it back gives the same nanosecond.
        let fraction =
            (nanos.rem_euclid(NANOS).cast_unsigned() << 32).div_ceil(NANOS.cast_unsigned());
        Self((seconds.cast_unsigned() << 32) | fraction)
    }

    /// The instant in nanoseconds since 1970, of all it may be the one nearest to `near`.
    pub const fn unix_nanos(self, near: i64) -> i64 {
        #[allow(
            clippy::cast_possible_truncation,
            clippy::cast_sign_loss,
            reason = "seconds are compared modulo 2^32"
        )]
        let expected = near.div_euclid(NANOS).wrapping_add(SECONDS_TO_1970) as u32;
        let seconds = (self.0 >> 32) as u32;
        let ahead = seconds.wrapping_sub(expected).cast_signed() as i64;
        let fraction =
            ((self.0 & 0xffff_ffff).wrapping_mul(NANOS.cast_unsigned()) >> 32).cast_signed();
        near.div_euclid(NANOS).wrapping_add(ahead).wrapping_mul(NANOS).wrapping_add(fraction)
    }
}

/// How far a clock may be off (RFC 4656 section 4.1.2; RFC 8762 section 4.2.1).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct ErrorEstimate(u16);

impl ErrorEstimate {
    /// A clock of which nothing is known: not synchronised, the largest error.
    pub const UNKNOWN: Self = Self(0x3fff);

    /// A clock synchronised to UTC with an error of at most so many microseconds.
    pub fn synchronised(error_us: u32) -> Self {
        // multiplier * 2^(scale - 32) seconds, rounded up to the next that can be written.
        let units = (u64::from(error_us) << 32).div_ceil(1_000_000).max(1);
        let scale = (64u32.saturating_sub(units.leading_zeros())).saturating_sub(8);
        let kept = units >> scale;
        let multiplier = if kept << scale < units { kept.saturating_add(1) } else { kept };
        let (scale, multiplier) =
            if multiplier > 0xff { (scale.saturating_add(1), 0x80) } else { (scale, multiplier) };
        let (scale, multiplier) =
            (u16::try_from(scale).unwrap_or(31), u16::try_from(multiplier).unwrap_or(0xff));
        Self(0x8000 | (scale << 8) | multiplier)
    }

    /// The error in microseconds of a clock that says it is synchronised; absent for others.
    pub fn error_us(self) -> Option<u32> {
        let synchronised = self.0 & 0x8000 != 0;
        let (scale, multiplier) = (u32::from(self.0 >> 8 & 0x3f), u64::from(self.0 & 0xff));
        if !synchronised || scale >= 56 {
            return None;
        }
        let units = u128::from(multiplier) << scale;
        let us = units.saturating_mul(1_000_000) >> 32;
        u32::try_from(us).ok()
    }
}

/// The class of service in both directions (RFC 8972 section 4.4).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct ClassOfService {
    /// The code point that the sender used and wants for the return route.
    pub wanted_dscp: u8,
    /// The code point as it came to the reflector.
    pub received_dscp: u8,
    /// The congestion field as it came to the reflector.
    pub received_ecn: u8,
}

impl ClassOfService {
    fn octets(self) -> [u8; 4] {
        let dscp = (u16::from(self.wanted_dscp & 0x3f) << 10)
            | (u16::from(self.received_dscp & 0x3f) << 4);
        let [first, second] = (dscp | u16::from(self.received_ecn & 0x3) << 2).to_be_bytes();
        [first, second, 0, 0]
    }

    fn read(octets: [u8; 4]) -> Self {
        let [first, second, ..] = octets;
        let both = u16::from_be_bytes([first, second]);
        let low = |value: u16| u8::try_from(value & 0x3f).unwrap_or(0);
        Self {
            wanted_dscp: low(both >> 10),
            received_dscp: low(both >> 4),
            received_ecn: low(both >> 2) & 0x3,
        }
    }
}

/// What a session's sender sends (RFC 8762 section 4.2.2).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Sent {
    /// Its number in the session.
    pub sequence: u32,
    /// When it left, by the sender's clock.
    pub stamp: Timestamp,
    /// How far that clock may be off.
    pub error: ErrorEstimate,
    /// The session (RFC 8972 section 3).
    pub session: u16,
    /// The class of service, where it is asked about.
    pub class: Option<ClassOfService>,
}

/// What a session's reflector sends back (RFC 8762 section 4.3.2).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Reflected {
    /// Its own number in the session: it counts what it has sent.
    pub sequence: u32,
    /// When it left, by the reflector's clock.
    pub stamp: Timestamp,
    /// How far that clock may be off.
    pub error: ErrorEstimate,
    /// The session.
    pub session: u16,
    /// When the sender's packet came, by the reflector's clock.
    pub received: Timestamp,
    /// The sender's number.
    pub sender_sequence: u32,
    /// The sender's stamp.
    pub sender_stamp: Timestamp,
    /// The sender's error.
    pub sender_error: ErrorEstimate,
    /// The hop limit that was left in the sender's packet.
    pub sender_hop_limit: u8,
    /// The class of service, where it was asked about.
    pub class: Option<ClassOfService>,
}

/// The session that a packet says it belongs to, before its code is checked.
///
/// # Errors
/// [`ParseError::Short`].
pub fn session_of(octets: &[u8]) -> Result<u16, ParseError> {
    let mut reader = Reader::new(Layer::Stamp, octets);
    reader.skip(26)?;
    reader.u16()
}

impl Sent {
    /// The packet in `len` octets, at least [`LEAST_LEN`].
    pub fn emit(&self, key: &[u8; KEY_LEN], len: usize) -> Vec<u8> {
        let mut out = Vec::with_capacity(len);
        out.extend_from_slice(&self.sequence.to_be_bytes());
        zeros(&mut out, 12);
        out.extend_from_slice(&self.stamp.0.to_be_bytes());
        out.extend_from_slice(&self.error.0.to_be_bytes());
        out.extend_from_slice(&self.session.to_be_bytes());
        zeros(&mut out, 68);
        finish(&mut out, key, self.sequence, self.class.map(|class| (class, UNTOUCHED)), len);
        out
    }

    /// Reads a packet whose codes are the key's.
    ///
    /// # Errors
    /// [`ParseError`] when octets are missing, or a code is not the key's.
    pub fn parse(octets: &[u8], key: &[u8; KEY_LEN]) -> Result<Self, ParseError> {
        let mut reader = Reader::new(Layer::Stamp, octets);
        let sequence = reader.u32()?;
        reader.skip(12)?;
        let stamp = timestamp(&mut reader)?;
        let error = ErrorEstimate(reader.u16()?);
        let session = reader.u16()?;
        reader.skip(68)?;
        let class = check(octets, &mut reader, key, sequence)?;
        Ok(Self { sequence, stamp, error, session, class })
    }
}

impl Reflected {
    /// The packet in `len` octets, at least [`LEAST_LEN`].
    pub fn emit(&self, key: &[u8; KEY_LEN], len: usize) -> Vec<u8> {
        let mut out = Vec::with_capacity(len);
        out.extend_from_slice(&self.sequence.to_be_bytes());
        zeros(&mut out, 12);
        out.extend_from_slice(&self.stamp.0.to_be_bytes());
        out.extend_from_slice(&self.error.0.to_be_bytes());
        out.extend_from_slice(&self.session.to_be_bytes());
        zeros(&mut out, 4);
        out.extend_from_slice(&self.received.0.to_be_bytes());
        zeros(&mut out, 8);
        out.extend_from_slice(&self.sender_sequence.to_be_bytes());
        zeros(&mut out, 12);
        out.extend_from_slice(&self.sender_stamp.0.to_be_bytes());
        out.extend_from_slice(&self.sender_error.0.to_be_bytes());
        zeros(&mut out, 6);
        out.push(self.sender_hop_limit);
        zeros(&mut out, 15);
        finish(&mut out, key, self.sequence, self.class.map(|class| (class, 0)), len);
        out
    }

    /// Reads a packet whose codes are the key's.
    ///
    /// # Errors
    /// [`ParseError`] when octets are missing, or a code is not the key's.
    pub fn parse(octets: &[u8], key: &[u8; KEY_LEN]) -> Result<Self, ParseError> {
        let mut reader = Reader::new(Layer::Stamp, octets);
        let sequence = reader.u32()?;
        reader.skip(12)?;
        let stamp = timestamp(&mut reader)?;
        let error = ErrorEstimate(reader.u16()?);
        let session = reader.u16()?;
        reader.skip(4)?;
        let received = timestamp(&mut reader)?;
        reader.skip(8)?;
        let sender_sequence = reader.u32()?;
        reader.skip(12)?;
        let sender_stamp = timestamp(&mut reader)?;
        let sender_error = ErrorEstimate(reader.u16()?);
        reader.skip(6)?;
        let sender_hop_limit = reader.u8()?;
        reader.skip(15)?;
        let class = check(octets, &mut reader, key, sequence)?;
        Ok(Self {
            sequence,
            stamp,
            error,
            session,
            received,
            sender_sequence,
            sender_stamp,
            sender_error,
            sender_hop_limit,
            class,
        })
    }
}

fn timestamp(reader: &mut Reader<'_>) -> Result<Timestamp, ParseError> {
    reader.take().map(|octets| Timestamp(u64::from_be_bytes(octets)))
}

fn zeros(out: &mut Vec<u8>, count: usize) {
    out.resize(out.len().saturating_add(count), 0);
}

fn hmac(key: &[u8; KEY_LEN], parts: &[&[u8]]) -> Hmac<Sha256> {
    #[allow(clippy::expect_used, reason = "HMAC takes keys of any length (RFC 2104)")]
    let mut hmac = Hmac::<Sha256>::new_from_slice(key).expect("a key of 32 octets");
    parts.iter().for_each(|part| hmac.update(part));
    hmac
}

fn code(key: &[u8; KEY_LEN], parts: &[&[u8]]) -> [u8; CODE_LEN] {
    let whole: [u8; 32] = hmac(key, parts).finalize().into_bytes().into();
    whole.first_chunk().copied().unwrap_or_default()
}

/// Appends the code, the optional parts with a code of their own, and the padding.
fn finish(
    out: &mut Vec<u8>,
    key: &[u8; KEY_LEN],
    sequence: u32,
    class: Option<(ClassOfService, u8)>,
    len: usize,
) {
    let own = code(key, &[out.as_slice()]);
    out.extend_from_slice(&own);
    if let Some((class, flags)) = class {
        let mut part = vec![flags, CLASS, 0, 4];
        part.extend_from_slice(&class.octets());
        let covered = code(key, &[&sequence.to_be_bytes(), &part]);
        out.extend_from_slice(&part);
        out.extend_from_slice(&[flags, CODE, 0, 16]);
        out.extend_from_slice(&covered);
    }
    // What is too short for a part of its own is left off.
    let left = len.saturating_sub(out.len().saturating_add(PART_HEADER));
    if len >= out.len().saturating_add(PART_HEADER) {
        let flags = class.map_or(UNTOUCHED, |(_, flags)| flags);
        let [high, low] = u16::try_from(left).unwrap_or(u16::MAX).to_be_bytes();
        out.extend_from_slice(&[flags, PADDING, high, low]);
        zeros(out, left);
    }
}

/// Checks the codes; gives the class of service where there is one.
fn check(
    octets: &[u8],
    reader: &mut Reader<'_>,
    key: &[u8; KEY_LEN],
    sequence: u32,
) -> Result<Option<ClassOfService>, ParseError> {
    const FALSE: ParseError = ParseError::Checksum { layer: Layer::Stamp };
    let carried: [u8; CODE_LEN] = reader.take()?;
    let covered = octets.get(..COVERED).ok_or(FALSE)?;
    hmac(key, &[covered]).verify_truncated_left(&carried).map_err(|_| FALSE)?;
    let parts = octets.get(BASE_LEN..).unwrap_or_default();
    let (mut class, mut before) = (None, 0usize);
    while !reader.is_empty() {
        let [_flags, kind, high, low] = reader.take()?;
        let length = usize::from(u16::from_be_bytes([high, low]));
        let value = reader.take_slice(length)?;
        match kind {
            CLASS => {
                let value = value.first_chunk::<4>().ok_or_else(|| ParseError::Field {
                    layer: Layer::Stamp,
                    field: "class of service length",
                    value: u32::from(u16::from_be_bytes([high, low])),
                })?;
                class = Some(ClassOfService::read(*value));
            }
            CODE => {
                let covered = parts.get(..before).unwrap_or_default();
                let whole = hmac(key, &[&sequence.to_be_bytes(), covered]);
                if value.len() != CODE_LEN || whole.verify_truncated_left(value).is_err() {
                    return Err(FALSE);
                }
                return Ok(class);
            }
            _ => {}
        }
        before = before.saturating_add(PART_HEADER).saturating_add(length);
    }
    // Parts without a code may hold anything: they have no effect.
    if class.is_some() { Err(FALSE) } else { Ok(None) }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    const KEY: [u8; KEY_LEN] = [7; KEY_LEN];

    fn any_class() -> impl Strategy<Value = Option<ClassOfService>> {
        prop::option::of((0u8..64, 0u8..64, 0u8..4).prop_map(|(wanted, received, ecn)| {
            ClassOfService { wanted_dscp: wanted, received_dscp: received, received_ecn: ecn }
        }))
    }

    prop_compose! {
        fn any_sent()(
            sequence: u32, stamp: u64, error: u16, session: u16, class in any_class(),
        ) -> Sent {
            let (stamp, error) = (Timestamp(stamp), ErrorEstimate(error));
            Sent { sequence, stamp, error, session, class }
        }
    }

    prop_compose! {
        fn any_reflected()(
            sent in any_sent(), sequence: u32, stamps: (u64, u64), error: u16, hop_limit: u8,
        ) -> Reflected {
            Reflected {
                sequence,
                stamp: Timestamp(stamps.0),
                error: ErrorEstimate(error),
                session: sent.session,
                received: Timestamp(stamps.1),
                sender_sequence: sent.sequence,
                sender_stamp: sent.stamp,
                sender_error: sent.error,
                sender_hop_limit: hop_limit,
                class: sent.class,
            }
        }
    }

    proptest! {
        #[test]
        fn what_was_sent_is_read_and_nothing_else(
            sent in any_sent(), reflected in any_reflected(), more in 0usize..80, bit in 0usize..(LEAST_LEN * 8), cut in 1usize..64,
        ) {
            let octets = sent.emit(&KEY, LEAST_LEN + more);
            prop_assert_eq!(Sent::parse(&octets, &KEY).unwrap(), sent);
            prop_assert_eq!(session_of(&octets).unwrap(), sent.session);
            let back = reflected.emit(&KEY, LEAST_LEN + more);
            prop_assert_eq!(Reflected::parse(&back, &KEY).unwrap(), reflected);
            prop_assert!(Sent::parse(&octets, &[8; KEY_LEN]).is_err(), "another's key");
            prop_assert!(Sent::parse(&octets[..BASE_LEN - cut], &KEY).is_err());
            let mut damaged = octets.clone();
            damaged[bit / 8 % octets.len()] ^= 1 << (bit % 8);
            // Flags of parts and padding are not authenticated: all else is.
            if let Ok(read) = Sent::parse(&damaged, &KEY) {
                prop_assert_eq!(read.sequence, sent.sequence);
                prop_assert_eq!(read.stamp, sent.stamp);
                prop_assert!(read.class == sent.class || read.class.is_none());
            }
        }

        #[test]
        fn any_octets_are_read_calmly(octets in prop::collection::vec(any::<u8>(), 0..200)) {
            let _calm = (session_of(&octets), Sent::parse(&octets, &KEY).is_err());
            prop_assert!(Reflected::parse(&octets, &KEY).is_err());
        }

        #[test]
        fn stamps_are_read_in_the_era_they_are_near_to(
            nanos in -1_000_000_000_000_000_000i64..8_000_000_000_000_000_000, off in -1_000_000_000_000_000i64..1_000_000_000_000_000,
        ) {
            let back = Timestamp::from_unix_nanos(nanos).unix_nanos(nanos.saturating_add(off));
            prop_assert_eq!(back, nanos);
        }

        #[test]
        fn an_error_is_written_no_smaller_and_at_most_one_in_128_larger(us in 1u32..4_000_000_000) {
            let read = ErrorEstimate::synchronised(us).error_us().unwrap();
            prop_assert!(read >= us && u64::from(read) <= u64::from(us) + u64::from(us) / 64 + 1, "{}", read);
        }
    }

    #[test]
    fn an_unknown_clock_claims_nothing() {
        assert_eq!(ErrorEstimate::UNKNOWN.error_us(), None);
    }
}
