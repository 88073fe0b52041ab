//! Units with one meaning each. A number that crosses an edge carries its unit in its name.

use serde::{Deserialize, Serialize};
use std::fmt;
use std::ops::{Add, Sub};
use time::OffsetDateTime;

/// A monotonic instant: nanoseconds since an epoch the driver chose (boot, start, zero).
///
/// Limits: comparable only within one boot; never converted to wall time by arithmetic.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default, Serialize, Deserialize,
)]
pub struct Tick(u64);

impl Tick {
    /// The driver's epoch.
    pub const ZERO: Self = Self(0);

    /// A tick from nanoseconds since the epoch.
    pub const fn from_nanos(nanos: u64) -> Self {
        Self(nanos)
    }

    /// A tick from milliseconds since the epoch.
    pub const fn from_millis(millis: u64) -> Self {
        Self(millis * 1_000_000)
    }

    /// Nanoseconds since the epoch.
    pub const fn as_nanos(self) -> u64 {
        self.0
    }

    /// The span since an earlier tick; zero when `earlier` is later.
    pub fn since(self, earlier: Self) -> Micros {
        Micros::from_nanos_saturating(self.0.saturating_sub(earlier.0))
    }

    /// This tick moved on by nanoseconds, stopping at the end of time.
    pub const fn plus_nanos(self, nanos: u64) -> Self {
        Self(self.0.saturating_add(nanos))
    }
}

impl Add<Micros> for Tick {
    type Output = Self;
    fn add(self, span: Micros) -> Self {
        self.plus_nanos(span.as_nanos())
    }
}

/// A span of time in microseconds, at most about 71 minutes.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default, Serialize, Deserialize,
)]
#[serde(transparent)]
pub struct Micros(u32);

impl Micros {
    /// No time at all.
    pub const ZERO: Self = Self(0);

    /// A span of `us` microseconds.
    pub const fn new(us: u32) -> Self {
        Self(us)
    }

    /// A span of `ms` milliseconds, stopping at the largest span.
    pub const fn from_millis(ms: u32) -> Self {
        Self(ms.saturating_mul(1_000))
    }

    fn from_nanos_saturating(nanos: u64) -> Self {
        Self(u32::try_from(nanos / 1_000).unwrap_or(u32::MAX))
    }

    /// Microseconds.
    pub const fn as_micros(self) -> u32 {
        self.0
    }

    /// Nanoseconds.
    pub const fn as_nanos(self) -> u64 {
        self.0 as u64 * 1_000
    }

    /// Milliseconds with their fraction, as text.
    pub fn as_millis_f64(self) -> f64 {
        f64::from(self.0) / 1_000.0
    }
}

impl Sub for Micros {
    type Output = Self;
    fn sub(self, other: Self) -> Self {
        Self(self.0.saturating_sub(other.0))
    }
}

impl fmt::Display for Micros {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{:.1} ms", self.as_millis_f64())
    }
}

/// A share between 0 and 1 in parts per million: a number from 0 to 1 in data.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[cfg_attr(feature = "openapi", schema(value_type = f64))]
pub struct Ratio(u32);

impl Ratio {
    /// A share in parts per million; more than all is all.
    pub const fn from_ppm(ppm: u32) -> Self {
        Self(if ppm > 1_000_000 { 1_000_000 } else { ppm })
    }

    /// The share of `part` in `whole`, rounded down; absent for nothing of nothing.
    pub fn of(part: u32, whole: u32) -> Option<Self> {
        let ppm = (u64::from(part) * 1_000_000).checked_div(whole.into())?;
        Some(Self::from_ppm(u32::try_from(ppm).unwrap_or(u32::MAX)))
    }

    /// Parts per million.
    pub const fn as_ppm(self) -> u32 {
        self.0
    }

    /// A number from 0 to 1.
    pub fn as_f64(self) -> f64 {
        f64::from(self.0) / 1e6
    }
}

impl Serialize for Ratio {
    fn serialize<S: serde::Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        to.serialize_f64(self.as_f64())
    }
}

impl<'de> Deserialize<'de> for Ratio {
    fn deserialize<D: serde::Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        let value = f64::deserialize(from)?;
        if !(0.0..=1.0).contains(&value) {
            return Err(serde::de::Error::custom("a ratio is between 0 and 1"));
        }
        #[allow(
            clippy::cast_possible_truncation,
            clippy::cast_sign_loss,
            reason = "between 0 and a million"
        )]
        Ok(Self((value * 1e6).round() as u32))
    }
}

/// A wall-clock instant: microseconds since 1970-01-01T00:00:00Z, before it negative.
///
/// Limits: whatever the machine's clock said; never used to order or to measure spans.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default, Serialize, Deserialize,
)]
#[serde(transparent)]
pub struct WallTime(i64);

impl From<OffsetDateTime> for WallTime {
    /// To the microsecond, rounded towards 1970.
    fn from(at: OffsetDateTime) -> Self {
        // The calendar ends at the year 9999: 64 bits hold its microseconds.
        Self(i64::try_from(at.unix_timestamp_nanos() / 1_000).unwrap_or(i64::MAX))
    }
}

impl WallTime {
    /// An instant from microseconds since 1970.
    pub const fn from_unix_micros(us: i64) -> Self {
        Self(us)
    }

    /// An instant from whole seconds since 1970.
    pub const fn from_unix_seconds(seconds: i64) -> Self {
        Self(seconds.saturating_mul(1_000_000))
    }

    /// Microseconds since 1970.
    pub const fn as_unix_micros(self) -> i64 {
        self.0
    }

    /// The date and time, in UTC; absent beyond the years -9999 to 9999.
    pub fn date_time(self) -> Option<OffsetDateTime> {
        OffsetDateTime::from_unix_timestamp_nanos(i128::from(self.0) * 1_000).ok()
    }

    /// The signed distance from `earlier` to this instant in microseconds.
    pub const fn micros_since(self, earlier: Self) -> i64 {
        self.0.saturating_sub(earlier.0)
    }

    /// This instant moved by a signed number of microseconds.
    pub const fn plus_micros(self, us: i64) -> Self {
        Self(self.0.saturating_add(us))
    }
}

/// A time to live (IPv4) or hop limit (IPv6) from 1 to 64.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(try_from = "u8", into = "u8")]
pub struct HopLimit(u8);

impl HopLimit {
    /// The largest value a sweep uses.
    pub const MAX: u8 = 64;
    /// That of the first hop.
    pub const FIRST: Self = Self(1);
    /// The farthest that is probed.
    pub const LAST: Self = Self(64);

    /// A checked hop limit; absent outside 1..=64.
    pub const fn try_new(value: u8) -> Option<Self> {
        if value >= 1 && value <= Self::MAX { Some(Self(value)) } else { None }
    }

    /// The byte on the wire.
    pub const fn as_u8(self) -> u8 {
        self.0
    }
}

/// A hop limit outside 1..=64.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("hop limit {0} is outside 1..=64")]
pub struct HopLimitOutOfRange(pub u8);

impl TryFrom<u8> for HopLimit {
    type Error = HopLimitOutOfRange;
    fn try_from(value: u8) -> Result<Self, Self::Error> {
        Self::try_new(value).ok_or(HopLimitOutOfRange(value))
    }
}

impl From<HopLimit> for u8 {
    fn from(value: HopLimit) -> Self {
        value.0
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_wall_time_and_its_date_are_one_instant() {
        let at = WallTime::from_unix_micros(1_700_000_000_123_456);
        let date = at.date_time().unwrap();
        assert_eq!((date.year(), date.microsecond()), (2023, 123_456));
        assert_eq!(WallTime::from(date), at);
        assert_eq!(WallTime::from_unix_micros(i64::MAX).date_time(), None);
    }

    #[test]
    fn spans_saturate_instead_of_wrapping() {
        let end = Tick::from_nanos(u64::MAX);
        assert_eq!(end.since(Tick::ZERO).as_micros(), u32::MAX);
        assert_eq!(Tick::ZERO.since(end), Micros::ZERO);
        assert_eq!(end + Micros::new(1), end);
    }

    #[test]
    fn hop_limits_stay_between_1_and_64() {
        assert!(HopLimit::try_new(0).is_none());
        assert!(HopLimit::try_new(65).is_none());
        assert_eq!(HopLimit::try_new(64).map(HopLimit::as_u8), Some(64));
    }
}
