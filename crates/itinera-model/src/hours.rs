//! Hours of the week in a time zone.

use crate::unit::WallTime;
use jiff::Timestamp;
use jiff::civil::{Time, Weekday as CivilWeekday};
use jiff::tz::TimeZone;
use serde::{Deserialize, Serialize};

/// Day of the week.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum Weekday {
    /// Monday.
    Monday,
    /// Tuesday.
    Tuesday,
    /// Wednesday.
    Wednesday,
    /// Thursday.
    Thursday,
    /// Friday.
    Friday,
    /// Saturday.
    Saturday,
    /// Sunday.
    Sunday,
}

impl From<CivilWeekday> for Weekday {
    fn from(day: CivilWeekday) -> Self {
        match day {
            CivilWeekday::Monday => Self::Monday,
            CivilWeekday::Tuesday => Self::Tuesday,
            CivilWeekday::Wednesday => Self::Wednesday,
            CivilWeekday::Thursday => Self::Thursday,
            CivilWeekday::Friday => Self::Friday,
            CivilWeekday::Saturday => Self::Saturday,
            CivilWeekday::Sunday => Self::Sunday,
        }
    }
}

/// Hours of the week in a time zone.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct Hours {
    /// Days on which they begin; every day where empty.
    #[serde(default)]
    pub days: Vec<Weekday>,
    /// First minute, such as `08:00`.
    pub from: String,
    /// The minute after the last, such as `17:30`. Not later than `from`: they end on the next day.
    pub to: String,
    /// Time zone of the IANA database, such as `Europe/London`.
    pub zone: String,
}

impl Hours {
    fn parsed(&self) -> Result<(Time, Time, TimeZone), String> {
        let minute = |field: &str, text: &str| {
            let time = Time::strptime("%H:%M", text);
            time.map_err(|_| format!("{field}: {text:?} is no time such as 08:00"))
        };
        let zone = TimeZone::get(&self.zone)
            .map_err(|_| format!("zone: {:?} is no time zone such as Europe/London", self.zone))?;
        Ok((minute("from", &self.from)?, minute("to", &self.to)?, zone))
    }

    /// Refuses what is no time or no zone, with the field's name and the reason.
    ///
    /// # Errors
    /// The field and what is wrong with it.
    pub fn check(&self) -> Result<(), String> {
        self.parsed().map(drop)
    }

    /// Whether a time is within. Hours that cannot be read hold always: a notice too many is better than
    /// none.
    pub fn hold(&self, at: WallTime) -> bool {
        self.end(at).map_or(true, |end| end.is_some())
    }

    /// When the hours end that a time is within; absent for a time that is within none, and for hours that
    /// cannot be read.
    pub fn until(&self, at: WallTime) -> Option<WallTime> {
        self.end(at).ok().flatten()
    }

    /// The same, with an error for what cannot be read.
    fn end(&self, at: WallTime) -> Result<Option<WallTime>, String> {
        let (from, to, zone) = self.parsed()?;
        let odd = |error: jiff::Error| error.to_string();
        let at = Timestamp::from_microsecond(at.as_unix_micros()).map_err(odd)?;
        let at = at.to_zoned(zone.clone());
        let begins_on = |day: CivilWeekday| self.days.is_empty() || self.days.contains(&day.into());
        let (today, time) = (at.weekday(), at.time());
        let last = if from < to {
            (begins_on(today) && (from..to).contains(&time)).then_some(at.date())
        } else if begins_on(today) && time >= from {
            Some(at.date().tomorrow().map_err(odd)?)
        } else {
            (begins_on(today.previous()) && time < to).then_some(at.date())
        };
        let Some(last) = last else { return Ok(None) };
        let end = last.to_datetime(to).to_zoned(zone).map_err(odd)?;
        Ok(Some(WallTime::from_unix_micros(end.timestamp().as_microsecond())))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use time::format_description::well_known::Rfc3339;

    fn at(text: &str) -> WallTime {
        WallTime::from(time::OffsetDateTime::parse(text, &Rfc3339).unwrap())
    }

    fn hours(days: &[Weekday], from: &str, to: &str) -> Hours {
        Hours {
            days: days.to_vec(),
            from: from.to_owned(),
            to: to.to_owned(),
            zone: "Europe/London".to_owned(),
        }
    }

    #[test]
    fn hours_are_of_the_zone_with_its_summer_time_and_may_end_on_the_next_day() {
        let office = hours(&[Weekday::Monday], "08:00", "17:00");
        // 2026-07-06 and 2026-12-07 are Mondays; in July the zone is an hour ahead of UTC.
        for (time, holds) in [
            ("2026-07-06T07:00:00Z", true),
            ("2026-07-06T06:59:59Z", false),
            ("2026-07-06T16:00:00Z", false),
            ("2026-12-07T07:30:00Z", false),
            ("2026-12-07T16:30:00Z", true),
            ("2026-12-08T12:00:00Z", false),
        ] {
            assert_eq!(office.hold(at(time)), holds, "{time}");
        }
        let night = hours(&[Weekday::Monday], "22:00", "06:00");
        for (time, holds) in [
            ("2026-12-07T21:59:00Z", false),
            ("2026-12-07T22:00:00Z", true),
            ("2026-12-08T05:59:00Z", true),
            ("2026-12-08T06:00:00Z", false),
            ("2026-12-07T03:00:00Z", false),
        ] {
            assert_eq!(night.hold(at(time)), holds, "{time}");
        }
        assert!(hours(&[], "00:00", "00:00").hold(at("2026-12-07T12:00:00Z")), "the whole day");
        for (bad, field) in [
            (hours(&[], "8 am", "17:00"), "from"),
            (hours(&[], "08:00", "25:00"), "to"),
            (Hours { zone: "Sound/Corriven".to_owned(), ..office }, "zone"),
        ] {
            assert!(bad.check().is_err_and(|reason| reason.starts_with(field)), "{field}");
            assert!(bad.hold(at("2026-12-07T12:00:00Z")), "what cannot be read hides nothing");
        }
    }

    #[test]
    fn hours_end_at_their_last_minute_in_their_zone() {
        let night = hours(&[], "22:00", "06:00");
        for (time, end) in [
            ("2026-12-07T23:00:00Z", Some("2026-12-08T06:00:00Z")),
            ("2026-12-08T05:59:59Z", Some("2026-12-08T06:00:00Z")),
            // In July the zone is an hour ahead of UTC.
            ("2026-07-06T21:30:00Z", Some("2026-07-07T05:00:00Z")),
            ("2026-12-07T12:00:00Z", None),
        ] {
            assert_eq!(night.until(at(time)), end.map(at), "{time}");
        }
        let day = hours(&[], "00:00", "00:00");
        let noon = at("2026-12-07T12:00:00Z");
        assert_eq!(day.until(noon), Some(at("2026-12-08T00:00:00Z")));
        let odd = Hours { zone: "Sound/Corriven".to_owned(), ..day };
        assert_eq!(odd.until(noon), None, "what cannot be read silences nothing");
    }
}
