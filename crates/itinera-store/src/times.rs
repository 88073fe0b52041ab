//! Times for the database, and times of an agent's clock as the service has them.

use itinera_model::unit::WallTime;
use sea_orm::{ColumnTrait, Condition, ExprTrait};
use time::OffsetDateTime;

/// Which entries of a list, by when they lasted. By default all.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Lasting {
    /// Only those that are open.
    pub open: bool,
    /// Only those that were open at this time or later.
    pub from: Option<OffsetDateTime>,
    /// Only those that were open at this time or before.
    pub to: Option<OffsetDateTime>,
}

impl Lasting {
    /// Those that are open.
    pub const OPEN: Self = Self { open: true, from: None, to: None };

    /// The condition on the columns of begin and end.
    pub(crate) fn condition<C: ColumnTrait>(self, begin: C, end: C) -> Condition {
        let lasted = self.from.map(|from| end.is_null().or(end.gte(from)));
        Condition::all()
            .add_option(self.open.then(|| end.is_null()))
            .add_option(lasted)
            .add_option(self.to.map(|to| begin.lte(to)))
    }
}

/// A time for the database; 1970 where the calendar does not have it.
pub(crate) fn offset(at: WallTime) -> OffsetDateTime {
    at.date_time().unwrap_or(OffsetDateTime::UNIX_EPOCH)
}

/// A time of the database in microseconds since 1970.
pub(crate) fn micros(at: OffsetDateTime) -> i64 {
    WallTime::from(at).as_unix_micros()
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
