//! Conversions between times of the model, of the database, and of an agent's clock.

use itinera_model::unit::WallTime;
use time::OffsetDateTime;

/// A time of the database; to the microsecond.
pub(crate) fn wall(at: OffsetDateTime) -> WallTime {
    let us = at.unix_timestamp_nanos() / 1_000;
    WallTime::from_unix_micros(i64::try_from(us).unwrap_or(i64::MAX))
}

/// A time for the database.
pub(crate) fn offset(at: WallTime) -> OffsetDateTime {
    let nanos = i128::from(at.as_unix_micros()) * 1_000;
    OffsetDateTime::from_unix_timestamp_nanos(nanos).unwrap_or(OffsetDateTime::UNIX_EPOCH)
}

/// The service's time of what an agent measured at `wall_us` by its own clock, in microseconds since
/// 1970. `offset_us` is what the clock lacks, in microseconds; without it the time of receipt
/// counts, which is also the latest possible time.
pub(crate) fn measured_at(wall_us: i64, offset_us: Option<i64>, received_at: WallTime) -> WallTime {
    match offset_us {
        Some(offset) => WallTime::from_unix_micros(wall_us.saturating_add(offset)).min(received_at),
        None => received_at,
    }
}
